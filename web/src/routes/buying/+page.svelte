<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { SvelteMap } from 'svelte/reactivity';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { Picking } from '#lib/kit/Picking.svelte.ts';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { ITEM_FIELDS, SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import ItemName from '#lib/ui/ItemName.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Ribbon from '#lib/ui/Ribbon.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	const MOST_PICKED = 1000;
	type Row = Schemas['ReplenishRow'];
	type Page = Schemas['ReplenishPage'];
	const COLUMNS: readonly Column<Row>[] = [
		{
			name: 'title',
			head: 'Item',
			cell: itemOf,
			fields: [...ITEM_FIELDS, ['supplier', 'Supplier'], ['source', 'Filled from']]
		},
		{ name: 'location', head: 'Location', cell: place, kind: 'place' },
		{ name: 'category', head: 'Category', cell: category, kind: 'soft clip', isSpare: true },
		{ name: 'on_hand', head: 'On hand', cell: onHand, kind: 'num' },
		{ name: 'committed', head: 'Committed', cell: committed, kind: 'num' },
		{ name: 'backordered', head: 'Backordered', cell: owed, kind: 'num', isSpare: true },
		{ name: 'incoming', head: 'Incoming', cell: incoming, kind: 'num' },
		{ name: 'per_day', head: 'Per day', cell: perDay, kind: 'num' },
		{
			name: 'ribbon',
			head: 'Cover over time',
			headCell: ribbonHead,
			cell: ribbon,
			kind: 'ribbon',
			fields: []
		},
		{ name: 'cover', head: 'Cover', cell: cover, kind: 'num', fields: [['cover', 'Cover, days']] },
		{
			name: 'lead_days',
			head: 'Lead',
			cell: lead,
			kind: 'num soft',
			fields: [['lead_days', 'Lead, days']]
		},
		{ name: 'suggested', head: 'Order', cell: order, kind: 'num' },
		{ name: 'price', head: 'Price', cell: price, kind: 'num soft', isSpare: true },
		{
			name: 'amount',
			head: 'Line',
			cell: amount,
			kind: 'num soft',
			fields: [
				['amount', 'Line'],
				['currency', 'Currency']
			]
		}
	];
	const sheet = new SheetState(
		'replenishment',
		'Replenishment',
		() => COLUMNS,
		{ q: '', location: '', show: 'needed' },
		page.url.searchParams
	);
	let busy = $state(false);
	const keyOf = (row: Row): string => `${row.item_id}-${row.location_id}`;
	const picking = new Picking<Row, string>(
		keyOf,
		(row) => `Order ${row.title} for ${row.location}`,
		(row) => row.supplier_id !== null || row.source_id !== null
	);
	/** How many to order, where somebody typed another quantity than the one suggested. */
	const typed = new SvelteMap<string, string>();
	const quantityOf = (row: Row): string =>
		typed.get(keyOf(row)) ?? (row.suggested === '0' ? row.pack : row.suggested);
	const head = createQuery(() => ({
		queryKey: ['replenishment'],
		queryFn: () => ask(api.GET('/api/v1/replenishment')),
		staleTime: 15000
	}));
	const data = $derived(head.data);
	const fetch = (which: string, cursor: string, limit: number): Promise<Page> => {
		const { q, location } = sheet.filters;
		return ask(
			api.GET('/api/v1/replenishment/rows', {
				params: {
					query: {
						q,
						show: (which || 'needed') as 'needed' | 'late' | 'all',
						cursor,
						limit,
						...(location ? { location: Number(location) } : {})
					}
				}
			})
		);
	};
	const lines = createInfiniteQuery(() => ({
		queryKey: ['replenishment rows', sheet.query],
		queryFn: ({ pageParam }) => fetch(sheet.filters.show, pageParam, 50),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		staleTime: 15000,
		enabled: sheet.isReady
	}));
	const found = $derived(lines.data?.pages.flatMap((part) => part.rows) ?? []);
	const shown = $derived.by(() => {
		// What was selected stays in sight when the filter no longer finds it.
		const here = new Set(found.map(keyOf));
		return [...picking.rows.filter((row) => !here.has(keyOf(row))), ...found];
	});
	// What comes from a place of ours stands first, by transfer; then what each supplier sells.
	const from = (id: number): string => `from ${id}`;
	const partOf = (row: Row): string | number =>
		row.source_id === null ? (row.supplier_id ?? 0) : from(row.source_id);
	const parts = $derived(
		[
			...(data?.sources ?? []).map((place) => from(place.id)),
			...(data?.suppliers ?? []).map((one) => one.id),
			0
		]
			.map((key) => ({ key, rows: shown.filter((row) => partOf(row) === key) }))
			.filter((part) => part.rows.length)
	);
	const drafts = (which: (row: Row) => boolean): number =>
		new Set(picking.rows.filter(which).map((row) => `${partOf(row)}-${row.location_id}`)).size;
	const orders = $derived(drafts((row) => row.source_id === null));
	const moves = $derived(drafts((row) => row.source_id !== null));
	const toDraft = $derived(
		[orders || !moves ? count(orders, 'purchase order') : '', moves ? count(moves, 'transfer') : '']
			.filter(Boolean)
			.join(' and ')
	);
	const may = $derived(session.may('buy'));

	async function pickLate(): Promise<void> {
		busy = true;
		try {
			let cursor = '';
			do {
				const late = await fetch('late', cursor, 200);
				picking.set(
					late.rows.filter((row) => row.suggested !== '0'),
					true
				);
				cursor = late.next;
			} while (cursor && picking.size < MOST_PICKED);
			if (cursor) notices.say(`The first ${picking.size} are selected; draft these, then go on.`);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
	}

	async function draft(): Promise<void> {
		busy = true;
		const lines = picking.rows.map((row) => ({
			item_id: row.item_id,
			location_id: row.location_id,
			quantity: quantityOf(row)
		}));
		try {
			const made = await ask(
				api.POST('/api/v1/purchase-orders', {
					body: { lines },
					headers: { 'Idempotency-Key': onceKey() }
				})
			);
			picking.clear();
			typed.clear();
			const all = [
				...made.orders.map((one) => ({ ...one, path: '/buying/orders' })),
				...made.transfers.map((one) => ({ ...one, path: '/shelf/transfers' }))
			];
			notices.say(`Drafted ${all.map((one) => one.number).join(', ')}.`);
			void changed();
			const [only] = all;
			await goto(
				all.length === 1 && only
					? `${only.path}/${only.id}`
					: `${made.orders.length ? '/buying/orders' : '/shelf/transfers'}?state=draft`
			);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
	}
</script>

<Sheet question="What should we buy?" tabs={BUYING_TABS} newPath="/buying/orders">
	{#snippet lead()}
		{#if data}
			<b class="late">{count(data.late, 'row')}</b> run{data.late === 1 ? 's' : ''} out before an order
			placed today can arrive; covering them costs about {figure(data.late_amount)}
			{data.currency}. Days without stock are left out of every rate.
		{/if}
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<PlaceFilter bind:value={sheet.filters.location} places={data?.locations} />
		<select class="field" aria-label="Show" bind:value={sheet.filters.show}>
			<option value="needed">what is needed</option><option value="late">what is late</option
			><option value="alert">below its alert level</option><option value="all">everything</option>
		</select>
		{#if may}<button class="quiet" disabled={busy} onclick={pickLate}>Select what is late</button
			>{/if}
		<SheetTools {sheet} />
	{/snippet}
	{#if parts.length}
		<div class="tight">
			<Rows
				{sheet}
				rows={shown}
				{parts}
				{partHead}
				key={keyOf}
				picking={may ? picking : undefined}
				isSortable={false}
			/>
		</div>
		<More query={lines} />
	{:else}
		<Pending
			query={lines}
			isEmpty
			empty={sheet.filters.show === 'all'
				? 'No sales yet, so nothing can be forecast.'
				: 'Nothing needs ordering.'}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(shown.length, 'row')}{lines.hasNextPage ? ' so far' : ''}</span>
		<span>{count(picking.size, 'row')} selected</span>
		{#if may}<button class="do ml-auto" disabled={busy || !picking.size} onclick={draft}
				>Draft {toDraft}</button
			>{/if}
	{/snippet}
</Sheet>

{#snippet partHead(key: string | number)}
	{@const supplier = data?.suppliers.find((one) => one.id === key)}
	{@const place = data?.sources.find((one) => from(one.id) === key)}
	{#if supplier}<a class="plain-link" href="/buying/suppliers/{supplier.id}">{supplier.name}</a
		>{:else if place}From {place.name}
		<span class="soft font-normal small">by transfer; what is needed counts there as well</span
		>{:else}No supplier
		<a class="font-normal small" href="/buying/suppliers">Add suppliers for these</a>{/if}
	{#if supplier}<span class="soft font-normal small"
			>lead {supplier.lead_days} days · {supplier.currency}{supplier.currency !== data?.currency
				? ` ${supplier.rate}`
				: ''} · order minimum {figure(supplier.order_minimum)}</span
		>{/if}
{/snippet}
{#snippet itemOf(row: Row)}<ItemName
		id={row.item_id}
		title={row.title}
		sku={row.sku}
		picture={row.picture}
	/>{/snippet}
{#snippet place(row: Row)}{row.location}{/snippet}
{#snippet category(row: Row)}{row.category}{/snippet}
{#snippet onHand(row: Row)}<Fig value={row.on_hand} kind="on-hand" id={keyOf(row)} />{/snippet}
{#snippet committed(row: Row)}{figure(row.committed)}{/snippet}
{#snippet owed(row: Row)}{figure(row.backordered)}{/snippet}
{#snippet incoming(row: Row)}{figure(row.incoming)}{/snippet}
{#snippet perDay(row: Row)}<Fig
		value={row.per_day}
		kind="demand"
		id={keyOf(row)}
		tone={row.days_out > 0 ? 'ochre' : ''}
	/>{/snippet}
{#snippet ribbonHead()}<span class="ribbon-head"
		><span>today</span><span>30</span><span>60</span><span>90 d</span></span
	>{/snippet}
{#snippet ribbon(row: Row)}<Ribbon ribbon={row.ribbon} cover={row.cover} />{/snippet}
{#snippet cover(row: Row)}<span class:late={row.ribbon.late}
		>{row.cover === null ? '–' : `${Math.round(Number(row.cover))} d`}</span
	>{/snippet}
{#snippet lead(row: Row)}{row.lead_days} d{/snippet}
{#snippet order(row: Row)}
	{#if picking.has(row)}<input
			class="field qty"
			inputmode="decimal"
			aria-label="Quantity of {row.title}"
			value={quantityOf(row)}
			oninput={(event) => typed.set(keyOf(row), event.currentTarget.value)}
		/>{:else}<Fig value={row.suggested} kind="suggestion" id={keyOf(row)} />{/if}
{/snippet}
{#snippet price(row: Row)}{row.supplier_id ? figure(row.price) : ''}{/snippet}
{#snippet amount(row: Row)}{#if row.source_id !== null}<span class="small"
			>{Number(row.ready) < Number(row.suggested)
				? `${figure(row.ready, '0')} can go`
				: row.suggested === '0'
					? ''
					: 'can go'}</span
		>{:else}{figure(row.amount)}{/if}{/snippet}

<style>
	.late {
		color: var(--madder);
		font-weight: 600;
	}
	.ribbon-head {
		font-size: 11px;
	}
	.ribbon-head span {
		display: inline-block;
		width: 58px;
		font-weight: 400;
	}
	.ribbon-head span:last-child {
		width: auto;
		margin-left: -8px;
	}
	.tight :global(.ribbon) {
		width: 196px;
	}
	.qty {
		width: 62px;
		text-align: right;
		font-weight: 600;
	}
	.tight :global(.rows :is(td, th):not(:first-child)) {
		padding-left: 6px;
		padding-right: 6px;
	}
	.tight :global(.rows :is(td, th):last-child) {
		padding-right: 20px;
	}
</style>

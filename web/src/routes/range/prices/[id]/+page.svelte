<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { Picking } from '#lib/kit/Picking.svelte.ts';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure, moment, percent } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PriceChange from '#lib/ui/PriceChange.svelte';
	import PriceListForm from '#lib/ui/PriceListForm.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['PriceRow'];
	const id = $derived(Number(page.params.id));
	const path = $derived({ list_id: id });
	const list = createQuery(() => ({
		queryKey: ['price list', id],
		queryFn: () => ask(api.GET('/api/v1/price-lists/{list_id}', { params: { path } }))
	}));
	const data = $derived(list.data);
	const may = $derived(session.may('change prices'));
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'title', head: 'Item', cell: title, kind: 'long', sort: 'title' },
		{ name: 'sku', head: 'SKU', cell: sku, kind: 'soft small clip', sort: 'sku' },
		{ name: 'category', head: 'Category', cell: category, kind: 'soft clip', isSpare: true },
		{ name: 'own', head: 'Typed', cell: own, kind: 'num', title: 'Empty: worked out' },
		{ name: 'price', head: 'Price', cell: price, kind: 'num' },
		{ name: 'previous', head: 'Before', cell: previous, kind: 'num' },
		{ name: 'source', head: 'Comes from', cell: source, kind: 'soft' },
		{ name: 'breaks', head: 'Breaks', cell: breaks, kind: 'num' },
		{ name: 'cost', head: 'Cost', cell: cost, kind: 'num' },
		{ name: 'margin', head: 'Margin', cell: margin, kind: 'num', title: 'Of the price without tax' }
	];
	const sheet = new SheetState(
		'prices',
		'Prices',
		() => COLUMNS,
		{ q: '', category: '', show: '' },
		page.url.searchParams
	);
	const prices = createInfiniteQuery(() => ({
		queryKey: ['prices', id, sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/prices', {
					params: {
						query: {
							...sheet.query,
							list: id,
							show: (sheet.query.show as 'own' | undefined) ?? 'all',
							cursor: pageParam,
							limit: 100
						}
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(prices.data?.pages.flatMap((p) => p.rows) ?? []);
	const choices = createQuery(() => ({
		queryKey: ['range choices'],
		queryFn: () => ask(api.GET('/api/v1/range/choices'))
	}));
	let opened = $state<'' | 'list' | 'change' | 'changes'>('');
	const picking = new Picking<Row>(
		(row) => row.item_id,
		(row) => `Choose ${row.title}`
	);
	let typed = $state<Record<number, string>>({});
	let refusal = $state('');
	let wrong = $state(-1);
	let busy = $state(false);
	const edited = $derived(Object.keys(typed).length);

	const put = (item: number, text: string): void => {
		refusal = '';
		typed = { ...typed, [item]: text };
	};

	/** A column as a spreadsheet copies it, filled in downwards. */
	function paste(event: ClipboardEvent, row: Row): void {
		const lines = (event.clipboardData?.getData('text/plain') ?? '').trim().split(/\r?\n/);
		if (lines.length < 2) return;
		event.preventDefault();
		const at = rows.indexOf(row);
		const filled = lines.flatMap((line, down) => {
			const below = rows[at + down];
			return below ? [[below.item_id, line.split('\t')[0]?.trim() ?? '']] : [];
		});
		refusal = '';
		typed = { ...typed, ...(Object.fromEntries(filled) as Record<number, string>) };
	}

	async function save(): Promise<void> {
		busy = true;
		refusal = '';
		const given = Object.entries(typed);
		try {
			const done = await ask(
				api.PUT('/api/v1/price-lists/{list_id}/prices', {
					params: { path },
					body: {
						prices: given.map(([item, text]) => ({
							item_id: Number(item),
							price: text.trim().replace(',', '.') || null,
							from_quantity: '0'
						}))
					}
				})
			);
			typed = {};
			notices.say(done.said);
		} catch (error) {
			refusal = (error as Error).message;
			const place = error instanceof Problem ? /prices\.(\d+)/.exec(error.field) : null;
			wrong = place ? Number(given[Number(place[1])]?.[0] ?? -1) : -1;
		}
		busy = false;
		await changed();
	}

	async function undo(change: Schemas['PriceChangeOut']): Promise<void> {
		try {
			const done = await ask(
				api.POST('/api/v1/price-changes/{change_id}/undo', {
					params: { path: { change_id: change.id } }
				})
			);
			notices.say(done.said);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}

	async function remove(): Promise<void> {
		try {
			await ask(
				api.DELETE('/api/v1/price-lists/{list_id}', {
					params: { path, query: { version: data?.version ?? 0 } }
				})
			);
			notices.say('The list was deleted.');
			await goto('/range/prices');
		} catch (error) {
			notices.fail(error);
		}
	}
	const dates = (one: Schemas['PriceChangeOut']): string =>
		one.starts_on || one.ends_on
			? `${one.starts_on ? day(one.starts_on) : 'at once'} – ${one.ends_on ? day(one.ends_on) : 'open'}`
			: 'for good';
</script>

<Sheet question={data?.name ?? 'Price list'} tabs={RANGE_TABS}>
	{#snippet lead()}{#if data}{data.base ? 'The company’s own prices, typed' : data.how}{data.base
				? ''
				: `, seen by ${data.given_to.join(', ') || 'nobody yet'}`} · {data.currency}
			{data.taxed ? 'with tax' : 'without tax'}{data.starts_on || data.ends_on
				? ` · in force ${data.starts_on ? `from ${day(data.starts_on)}` : ''} ${data.ends_on ? `until ${day(data.ends_on)}` : ''}`
				: ''}{/if}{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Category" bind:value={sheet.filters.category}>
			<option value="">every category</option>
			{#each choices.data?.categories ?? [] as name (name)}<option value={name}>{name}</option
				>{/each}
		</select>
		<select class="field" aria-label="Show" bind:value={sheet.filters.show}>
			<option value="">all items</option><option value="own">typed here</option>
			<option value="below">below their floor</option><option value="none">without a price</option>
		</select>
		{#if may && data}
			<button class="do" onclick={() => (opened = 'change')}>Change prices</button>
			<button class="quiet" onclick={() => (opened = 'list')}>The list</button>
		{/if}
		<button class="quiet" onclick={() => (opened = 'changes')}>Changes</button>
		<SheetTools {sheet} intake="prices" />
	{/snippet}
	{#if data && rows.length}
		<Rows {sheet} {rows} key={(row) => row.item_id} picking={may ? picking : undefined} />
		<More query={prices} />
	{:else}<Pending
			query={data ? prices : list}
			isEmpty={!!data}
			empty="No item like that."
			first={{ text: 'Items', path: '/range' }}
		/>{/if}
	{#snippet totals()}
		<span>{count(rows.length, 'item')}{prices.hasNextPage ? ' and more' : ''}</span>
		{#if picking.size}<span
				>{picking.size} chosen
				<button class="quiet" onclick={() => picking.clear()}>None</button></span
			>{/if}
		{#if edited}
			<button class="do" disabled={busy} onclick={save}>Save {count(edited, 'price')}</button>
			<button class="quiet" onclick={() => (typed = {})}>Undo</button>
		{/if}
		<span class="bad" role="alert">{refusal}</span>
	{/snippet}
</Sheet>
<Dialogue isOpen={opened === 'list'} title={data?.name ?? ''} wide onclose={() => (opened = '')}>
	{#if opened === 'list' && data}
		<PriceListForm list={data} onkept={() => (opened = '')} />
		{#if !data.base}<p class="below">
				<button class="quiet" onclick={remove}>Delete this list</button>
			</p>{/if}
	{/if}
</Dialogue>
<Dialogue
	isOpen={opened === 'change'}
	title="Change prices of {data?.name ?? ''}"
	wide
	onclose={() => (opened = '')}
>
	{#if opened === 'change' && data}<PriceChange
			list={data}
			q={sheet.filters.q}
			category={sheet.filters.category}
			items={picking.keys}
			ondone={() => {
				opened = '';
				picking.clear();
			}}
		/>{/if}
</Dialogue>
<Dialogue
	isOpen={opened === 'changes'}
	title="How the prices of {data?.name ?? ''} were changed"
	wide
	onclose={() => (opened = '')}
>
	{#if opened === 'changes'}
		<table class="rows" aria-label="Changes">
			<thead
				><tr
					><th>When</th><th>By</th><th>What</th><th>In force</th><th class="num">Items</th><th
						><span class="sr-only">Undo</span></th
					></tr
				></thead
			>
			<tbody>
				{#each data?.changes ?? [] as one (one.id)}
					<tr
						><td class="soft place">{moment(one.at)}</td><td class="place">{one.by}</td><td
							class="long">{one.what}</td
						><td class="soft">{dates(one)}</td><td class="num">{figure(`${one.items}`)}</td><td
							>{#if one.undone_at}<span class="soft">taken back by {one.undone_by}</span
								>{:else if may}<button class="quiet" onclick={() => undo(one)}>Take back</button
								>{/if}</td
						></tr
					>
				{:else}<tr><td colspan="6" class="soft">Not changed yet.</td></tr>{/each}
			</tbody>
		</table>
	{/if}
</Dialogue>

{#snippet title(row: Row)}<a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a
	>{/snippet}
{#snippet sku(row: Row)}{row.sku}{/snippet}
{#snippet category(row: Row)}{row.category}{/snippet}
{#snippet own(row: Row)}{#if may}<input
			class="field typed"
			inputmode="decimal"
			aria-label="Price of {row.title}"
			aria-invalid={wrong === row.item_id && !!refusal}
			value={typed[row.item_id] ?? row.own ?? ''}
			oninput={(event) => put(row.item_id, event.currentTarget.value)}
			onpaste={(event) => paste(event, row)}
		/>{:else}{row.own === null ? '' : figure(row.own)}{/if}{/snippet}
{#snippet price(row: Row)}{#if row.price === null}<span class="soft">none</span>{:else}<Fig
			value={row.price}
			kind="price"
			id={`${id}-${row.item_id}`}
		/>{/if}{/snippet}
{#snippet previous(row: Row)}{#if row.previous}<s class="soft">{figure(row.previous)}</s
		>{/if}{/snippet}
{#snippet source(row: Row)}{row.source}{#if row.ends_on}, until {day(row.ends_on)}{/if}{/snippet}
{#snippet breaks(row: Row)}{row.breaks || '·'}{/snippet}
{#snippet cost(row: Row)}{row.cost === null ? '–' : Number(row.cost).toFixed(2)}{/snippet}
{#snippet margin(row: Row)}<span class:bad={row.below_floor}>{percent(row.margin)}</span>{/snippet}

<style>
	.typed {
		width: 92px;
		height: 26px;
		text-align: right;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
	.below {
		margin-top: 14px;
		padding-top: 12px;
		border-top: 1px solid var(--rule);
	}
</style>

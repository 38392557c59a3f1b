<script lang="ts">
	import { createInfiniteQuery, createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { SvelteMap } from 'svelte/reactivity';
	import { goto } from '$app/navigation';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Ribbon from '#lib/ui/Ribbon.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const MOST_PICKED = 1000;
	type Row = Schemas['ReplenishRow'];
	type Page = Schemas['ReplenishPage'];
	const client = useQueryClient();
	let q = $state('');
	let place = $state('');
	let show = $state<'needed' | 'late' | 'all'>('needed');
	let busy = $state(false);
	const picked = new SvelteMap<string, { row: Row; quantity: string }>();
	const head = createQuery(() => ({
		queryKey: ['replenishment'],
		queryFn: () => ask(api.GET('/api/v1/replenishment')),
		staleTime: 15000
	}));
	const data = $derived(head.data);
	const page = (which: 'needed' | 'late' | 'all', cursor: string, limit: number): Promise<Page> =>
		ask(
			api.GET('/api/v1/replenishment/rows', {
				params: {
					query: { q, show: which, cursor, limit, ...(place ? { location: Number(place) } : {}) }
				}
			})
		);
	const sheet = createInfiniteQuery(() => ({
		queryKey: ['replenishment rows', q, place, show],
		queryFn: ({ pageParam }) => page(show, pageParam, 50),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		staleTime: 15000
	}));
	const keyOf = (row: Row): string => `${row.item_id}-${row.location_id}`;
	const found = $derived(sheet.data?.pages.flatMap((part) => part.rows) ?? []);
	const shown = $derived.by(() => {
		// What was selected stays in sight when the filter no longer finds it.
		const here = new Set(found.map(keyOf));
		return [
			...[...picked.values()].map((one) => one.row).filter((row) => !here.has(keyOf(row))),
			...found
		];
	});
	const groups = $derived(
		[...(data?.suppliers ?? []), null]
			.map((supplier) => ({
				supplier,
				rows: shown.filter((row) => row.supplier_id === (supplier?.id ?? null))
			}))
			.filter((group) => group.rows.length)
	);
	const orders = $derived(
		new Set([...picked.values()].map(({ row }) => `${row.supplier_id}-${row.location_id}`))
	);
	const may = $derived(session.may('buy'));

	function pick(row: Row): void {
		picked.set(keyOf(row), { row, quantity: row.suggested === '0' ? row.pack : row.suggested });
	}

	function toggle(row: Row): void {
		if (picked.has(keyOf(row))) picked.delete(keyOf(row));
		else pick(row);
	}

	async function pickLate(): Promise<void> {
		busy = true;
		try {
			let cursor = '';
			do {
				const late = await page('late', cursor, 200);
				for (const row of late.rows) if (row.suggested !== '0') pick(row);
				cursor = late.next;
			} while (cursor && picked.size < MOST_PICKED);
			if (cursor) notices.say(`The first ${picked.size} are selected; draft these, then go on.`);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
	}

	async function draft(): Promise<void> {
		busy = true;
		const lines = [...picked.values()].map(({ row, quantity }) => ({
			item_id: row.item_id,
			location_id: row.location_id,
			quantity
		}));
		try {
			const made = await ask(
				api.POST('/api/v1/purchase-orders', {
					body: { lines },
					headers: { 'Idempotency-Key': onceKey() }
				})
			);
			picked.clear();
			notices.say(`Drafted ${made.orders.map((order) => order.number).join(', ')}.`);
			void client.invalidateQueries();
			const only = made.orders[0];
			await goto(
				made.orders.length === 1 && only
					? `/buying/orders/${only.id}`
					: '/buying/orders?state=draft'
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
		<Filter bind:value={q} />
		<PlaceFilter bind:value={place} places={data?.locations} />
		<select class="field" aria-label="Show" bind:value={show}>
			<option value="needed">what is needed</option><option value="late">what is late</option
			><option value="all">everything</option>
		</select>
		{#if may}<button class="quiet" disabled={busy} onclick={pickLate}>Select what is late</button
			>{/if}
	{/snippet}
	{#if groups.length}
		<table class="rows">
			<thead
				><tr
					><th class="pick"><span class="sr-only">Select</span></th><th>Item</th><th>Location</th
					><th class="num">On hand</th><th class="num">Committed</th><th class="num">Incoming</th
					><th class="num">Per day</th><th class="ribbon-head"
						><span>today</span><span>30</span><span>60</span><span>90 d</span></th
					><th class="num">Cover</th><th class="num">Lead</th><th class="num">Order</th><th
						class="num">Line</th
					></tr
				></thead
			>
			{#each groups as group (group.supplier?.id ?? 0)}
				<tbody>
					<tr class="group"
						><td colspan="12"
							>{group.supplier?.name ?? 'No supplier'}
							{#if group.supplier}<span class="soft font-normal small"
									>lead {group.supplier.lead_days} days · {group.supplier.currency}{group.supplier
										.currency !== data?.currency
										? ` ${group.supplier.rate}`
										: ''} · order minimum {figure(group.supplier.order_minimum)}</span
								>{/if}</td
						></tr
					>
					{#each group.rows as row (keyOf(row))}
						{@const key = keyOf(row)}
						{@const isPicked = picked.has(key)}
						<tr data-row>
							<td class="pick"
								>{#if may && group.supplier}<input
										type="checkbox"
										aria-label="Order {row.title} for {row.location}"
										checked={isPicked}
										onchange={() => toggle(row)}
									/>{/if}</td
							>
							<td
								><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
								<span class="soft small whitespace-nowrap">{row.sku}</span></td
							>
							<td class="place">{row.location}</td>
							<td class="num"><Fig value={row.on_hand} kind="on-hand" id={key} /></td>
							<td class="num">{figure(row.committed)}</td>
							<td class="num">{figure(row.incoming)}</td>
							<td class="num"
								><Fig
									value={row.per_day}
									kind="demand"
									id={key}
									tone={row.days_out > 0 ? 'ochre' : ''}
								/></td
							>
							<td class="ribbon"><Ribbon ribbon={row.ribbon} cover={row.cover} /></td>
							<td class="num" class:late={row.ribbon.late}
								>{row.cover === null ? '–' : `${Math.round(Number(row.cover))} d`}</td
							>
							<td class="num soft">{row.lead_days} d</td>
							<td class="num"
								>{#if isPicked}<input
										class="field qty"
										inputmode="decimal"
										aria-label="Quantity of {row.title}"
										value={picked.get(key)?.quantity}
										oninput={(event) =>
											picked.set(key, { row, quantity: event.currentTarget.value })}
									/>{:else}<Fig value={row.suggested} kind="suggestion" id={key} />{/if}</td
							>
							<td class="num soft">{figure(row.amount)}</td>
						</tr>
					{/each}
				</tbody>
			{/each}
		</table>
		<More query={sheet} />
	{:else}
		<Pending
			query={sheet}
			isEmpty
			empty={show === 'all'
				? 'Nothing sells yet, so nothing can be forecast.'
				: 'Nothing needs ordering.'}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(shown.length, 'row')}{sheet.hasNextPage ? ' so far' : ''}</span>
		<span>{count(picked.size, 'row')} selected</span>
		{#if may}<button class="do ml-auto" disabled={busy || !picked.size} onclick={draft}
				>Draft {count(orders.size, 'purchase order')}</button
			>{/if}
	{/snippet}
</Sheet>

<style>
	.late {
		color: var(--madder);
		font-weight: 600;
	}
	.pick {
		width: 34px;
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
	.ribbon-head {
		font-size: 11px !important;
	}
	.ribbon {
		width: 196px;
	}
	.qty {
		width: 62px;
		text-align: right;
		font-weight: 600;
	}
	.rows td:not(:first-child),
	.rows th:not(:first-child) {
		padding-left: 6px;
		padding-right: 6px;
	}
	.rows :is(td, th):last-child {
		padding-right: 20px;
	}
</style>

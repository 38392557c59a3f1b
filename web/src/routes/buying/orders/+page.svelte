<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure, moment } from '#lib/format.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['PurchaseRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'number', head: 'Order', cell: number, sort: 'number' },
		{
			name: 'supplier',
			head: 'Supplier',
			cell: supplier,
			kind: 'long',
			sort: 'supplier',
			isGroup: true
		},
		{ name: 'location', head: 'For', cell: place, kind: 'place', sort: 'place', isGroup: true },
		{ name: 'state', head: 'State', cell: standing, sort: 'state', isGroup: true },
		{ name: 'lines', head: 'Lines', cell: lines, kind: 'num' },
		{ name: 'made_at', head: 'Made', cell: made, kind: 'soft day', sort: 'made' },
		{
			name: 'expected_on',
			head: 'Expected',
			cell: expected,
			kind: 'day',
			sort: 'expected',
			fields: [
				['expected_on', 'Expected'],
				['late', 'Late']
			]
		},
		{
			name: 'total',
			head: 'Total',
			cell: total,
			kind: 'num',
			fields: [
				['total', 'Total'],
				['currency', 'Currency']
			]
		}
	];
	const sheet = new SheetState(
		'purchase_orders',
		'Purchase orders',
		() => COLUMNS,
		{ q: '', state: '' },
		page.url.searchParams
	);
	const orders = createInfiniteQuery(() => ({
		queryKey: ['purchase-orders', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/purchase-orders', {
					params: { query: { ...sheet.query, cursor: pageParam, limit: 80 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(orders.data?.pages.flatMap((p) => p.rows) ?? []);
	const STATES = [
		'open',
		'draft',
		'sent',
		'acknowledged',
		'part-received',
		'received',
		'cancelled'
	];
</script>

<Sheet question="What have we ordered?" tabs={BUYING_TABS}>
	{#snippet lead()}Drafts are made on the replenishment sheet; open one to send or receive it.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="State" bind:value={sheet.filters.state}>
			<option value="">every state</option>
			{#each STATES as name (name)}<option value={name}>{name}</option>{/each}
		</select>
		<SheetTools {sheet} />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={orders} />
	{:else}
		<Pending
			query={orders}
			isEmpty
			empty="No purchase order here. Select rows on the replenishment sheet to draft one."
			first={{ text: 'Replenishment', path: '/buying' }}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'order')}</span>{/snippet}
</Sheet>

{#snippet number(row: Row)}<a class="plain-link" href="/buying/orders/{row.id}">{row.number}</a
	>{/snippet}
{#snippet supplier(row: Row)}{row.supplier}{/snippet}
{#snippet place(row: Row)}{row.location}{/snippet}
{#snippet standing(row: Row)}<Mark state={row.state} ofGoods />{/snippet}
{#snippet lines(row: Row)}{row.lines}{/snippet}
{#snippet made(row: Row)}{moment(row.made_at)}{/snippet}
{#snippet expected(row: Row)}{day(row.expected_on)}
	{#if row.late}<Mark state="late" />{/if}{/snippet}
{#snippet total(row: Row)}{figure(row.total)}
	<span class="soft small currency">{row.currency}</span>{/snippet}

<style>
	/* As wide for every currency, so that the figures before it stand in one line. */
	.currency {
		display: inline-block;
		min-width: 26px;
		text-align: left;
	}
</style>

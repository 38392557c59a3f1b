<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';
	import SupplierForm from '#lib/ui/SupplierForm.svelte';

	type Row = Schemas['SupplierRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'name', head: 'Supplier', cell: nameOf, kind: 'long', sort: 'name' },
		{ name: 'currency', head: 'Currency', cell: currency, sort: 'currency', isGroup: true },
		{
			name: 'rate',
			head: 'Rate',
			cell: rate,
			kind: 'num',
			title: `Units of it for one ${session.currency} today`
		},
		{
			name: 'lead_days',
			head: 'Lead time',
			cell: lead,
			kind: 'num',
			sort: 'lead',
			fields: [['lead_days', 'Lead time, days']]
		},
		{
			name: 'lead_deviation_days',
			head: 'Lead time variation',
			cell: deviation,
			kind: 'num soft',
			title: 'The standard deviation of the lead time; safety stock grows with it',
			fields: [['lead_deviation_days', 'Lead time variation, days']]
		},
		{
			name: 'order_minimum',
			head: 'Order minimum',
			cell: minimum,
			kind: 'num',
			sort: 'minimum',
			title: 'In its currency'
		},
		{ name: 'inbox', head: 'Orders go', cell: way, kind: 'clip' },
		{ name: 'email', head: 'Email', cell: mail, kind: 'soft clip', isSpare: true },
		{ name: 'items', head: 'Items', cell: items, kind: 'num' },
		{ name: 'open_orders', head: 'Open orders', cell: open, kind: 'num' }
	];
	const sheet = new SheetState(
		'suppliers',
		'Suppliers',
		() => COLUMNS,
		{ q: '' },
		page.url.searchParams
	);
	const suppliers = createInfiniteQuery(() => ({
		queryKey: ['suppliers', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/suppliers', {
					params: { query: { ...sheet.query, cursor: pageParam, limit: 100 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(suppliers.data?.pages.flatMap((part) => part.rows) ?? []);
	let isAdding = $state(false);
</script>

<Sheet question="Who do we buy from?" tabs={BUYING_TABS}>
	{#snippet lead()}Lead times, minimums and prices stand behind every suggestion of the
		replenishment sheet.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		{#if session.may('buy')}<button type="button" class="quiet" onclick={() => (isAdding = true)}
				>Add a supplier</button
			>{/if}
		<SheetTools {sheet} intake="supplier_items" />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={suppliers} />
	{:else}
		<Pending
			query={suppliers}
			isEmpty
			empty={sheet.filters.q
				? 'No supplier is called that.'
				: 'No supplier yet. Add one, then say what it sells and for how much.'}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'supplier')}</span>{/snippet}
</Sheet>
{#if isAdding}
	<Dialogue isOpen title="A new supplier" onclose={() => (isAdding = false)}>
		<SupplierForm data={null} onsaved={(id) => goto(`/buying/suppliers/${id}`)} />
	</Dialogue>
{/if}

{#snippet nameOf(row: Row)}<a class="plain-link" href="/buying/suppliers/{row.id}">{row.name}</a
	>{/snippet}
{#snippet currency(row: Row)}{row.currency}{/snippet}
{#snippet rate(row: Row)}{#if row.currency === session.currency}<span class="soft">–</span
		>{:else if row.rate === null}<span class="missing">none known</span>{:else}{figure(
			row.rate
		)}{/if}{/snippet}
{#snippet lead(row: Row)}{row.lead_days} d{/snippet}
{#snippet deviation(row: Row)}{Number(row.lead_deviation_days)
		? `${Number(row.lead_deviation_days)} d`
		: '·'}{/snippet}
{#snippet minimum(row: Row)}{figure(row.order_minimum)}{/snippet}
{#snippet way(row: Row)}{#if row.inbox}{row.inbox}{:else}<span class="soft">as PDF</span
		>{/if}{/snippet}
{#snippet mail(row: Row)}{row.email}{/snippet}
{#snippet items(row: Row)}{row.items || '·'}{/snippet}
{#snippet open(row: Row)}{row.open_orders || '·'}{/snippet}

<style>
	.missing {
		color: var(--ochre);
		font-weight: 600;
	}
</style>

<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { Picking } from '#lib/kit/Picking.svelte.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import ChangeMany from '#lib/ui/ChangeMany.svelte';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['ItemRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'title', head: 'Item', cell: title, kind: 'long', sort: 'title' },
		{ name: 'sku', head: 'SKU', cell: sku, kind: 'soft small clip', sort: 'sku' },
		{
			name: 'category',
			head: 'Category',
			cell: category,
			kind: 'soft clip',
			sort: 'category',
			isGroup: true
		},
		{ name: 'supplier', head: 'Supplier', cell: supplier, kind: 'soft clip' },
		{ name: 'kind', head: 'Kind', cell: kindOf, kind: 'soft', isSpare: true },
		{ name: 'barcode', head: 'Barcode', cell: barcode, kind: 'soft small' },
		{ name: 'price', head: `Price ${session.currency}`, cell: price, kind: 'num', sort: 'price' },
		{ name: 'average_cost', head: 'Average cost', cell: cost, kind: 'num', sort: 'cost' },
		{ name: 'on_hand', head: 'On hand', cell: onHand, kind: 'num' },
		{ name: 'listings', head: 'Listings', cell: shownIn, kind: 'num' }
	];
	const sheet = new SheetState(
		'items',
		'Items',
		() => COLUMNS,
		{ q: '', kind: '', state: '', listed: '', connection: '' },
		page.url.searchParams
	);
	const items = createInfiniteQuery(() => ({
		queryKey: ['items', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/items', {
					params: {
						query: {
							...sheet.query,
							state: (sheet.query.state as 'internal' | 'retired' | undefined) ?? 'active',
							listed: sheet.query.listed as 'yes' | undefined,
							connection: sheet.query.connection ? Number(sheet.query.connection) : null,
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
	const channels = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const may = $derived(session.may('change the range'));
	const picking = new Picking<Row>(
		(row) => row.id,
		(row) => `Choose ${row.title}`
	);
	let isChanging = $state(false);
	const rows = $derived(items.data?.pages.flatMap((p) => p.rows) ?? []);
</script>

<Sheet question="What do we sell?" tabs={RANGE_TABS} newPath="/range/new">
	{#snippet lead()}Products, the items that are counted, and where each is shown.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Kind" bind:value={sheet.filters.kind}>
			<option value="">all kinds</option><option value="stocked">stocked</option>
			<option value="bundle">bundles</option><option value="service">services</option>
		</select>
		<select class="field" aria-label="State" bind:value={sheet.filters.state}>
			<option value="">in use</option><option value="internal">internal only</option>
			<option value="retired">retired</option>
		</select>
		<select class="field" aria-label="Listed" bind:value={sheet.filters.listed}>
			<option value="">listed or not</option><option value="yes">listed</option>
			<option value="no">not listed</option><option value="held">held</option>
			<option value="drifting">drifting</option><option value="hidden">hidden or ended</option>
			<option value="unpaired">listing not paired</option>
			<option value="clashing">listing clashes</option>
			<option value="ignored">listing ignored</option>
			<option value="prepared">about to be listed</option>
			<option value="lacking">about to be listed, lacks something</option>
			<option value="refused">refused there</option>
		</select>
		{#if sheet.filters.listed}<select
				class="field"
				aria-label="Connection"
				bind:value={sheet.filters.connection}
			>
				<option value="">on any connection</option>
				{#each (channels.data ?? []).filter((one) => one.listings) as one (one.id)}<option
						value={`${one.id}`}>on {one.name}</option
					>{/each}
			</select>{/if}
		{#if may}<a class="do" href="/range/new">New product</a>
			{#if rows.length}<button class="quiet" onclick={() => (isChanging = true)}>Change many</button
				>{/if}{/if}
		<SheetTools {sheet} intake="items" />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} picking={may ? picking : undefined} />
		<More query={items} />
	{:else}
		<Pending
			query={items}
			isEmpty
			empty="No item yet. Connect a shop and import its listings."
			first={{ text: 'Connections', path: '/connections' }}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'item')}{items.hasNextPage ? ' and more' : ''}</span>
		{#if picking.size}<span
				>{picking.size} chosen
				<button class="quiet" onclick={() => (isChanging = true)}>Change them</button>
				<button class="quiet" onclick={() => picking.clear()}>None</button></span
			>{/if}{/snippet}
</Sheet>
<Dialogue
	isOpen={isChanging}
	title="Change many items at once"
	onclose={() => (isChanging = false)}
>
	{#if isChanging}<ChangeMany
			ids={picking.keys}
			found={{
				q: sheet.query.q ?? '',
				kind: sheet.query.kind ?? '',
				state: (sheet.query.state as 'internal' | undefined) ?? 'active',
				listed: (sheet.query.listed as 'yes' | undefined) ?? '',
				connection: sheet.query.connection ? Number(sheet.query.connection) : null
			}}
		/>{/if}
</Dialogue>

{#snippet title(row: Row)}<Thumb picture={row.picture} /><a
		class="plain-link"
		href="/range/items/{row.id}">{row.title}</a
	>{/snippet}
{#snippet sku(row: Row)}{row.sku}{/snippet}
{#snippet category(row: Row)}{row.category}{/snippet}
{#snippet supplier(row: Row)}{row.supplier || (row.kind === 'stocked' ? '–' : row.kind)}{/snippet}
{#snippet kindOf(row: Row)}{row.kind}{/snippet}
{#snippet barcode(row: Row)}{row.barcode}{/snippet}
{#snippet price(row: Row)}{figure(row.price)}{/snippet}
{#snippet cost(row: Row)}{#if row.average_cost}<Fig
			value={Number(row.average_cost).toFixed(2)}
			kind="cost"
			id={`${row.id}`}
		/>{:else}<span class="soft">–</span>{/if}{/snippet}
{#snippet onHand(row: Row)}{row.kind === 'stocked' ? figure(row.on_hand ?? '0') : ''}{/snippet}
{#snippet shownIn(row: Row)}{row.listings || '·'}{/snippet}

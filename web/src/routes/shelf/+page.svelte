<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { ITEM_FIELDS, SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Adjust from '#lib/ui/Adjust.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import ItemName from '#lib/ui/ItemName.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['StockRow'];
	let adjusting = $state<Row | null>(null);
	const wanted = Number(page.url.searchParams.get('adjust') ?? 0);
	const ITEM: Column<Row> = {
		name: 'title',
		head: 'Item',
		cell: itemOf,
		kind: 'long',
		sort: 'item',
		fields: ITEM_FIELDS
	};
	const PLACE: Column<Row> = {
		name: 'location',
		head: 'Location',
		cell: place,
		kind: 'place',
		sort: 'place',
		isGroup: true
	};
	const NOW: readonly Column<Row>[] = [
		ITEM,
		PLACE,
		{ name: 'category', head: 'Category', cell: category, kind: 'soft clip', isSpare: true },
		{ name: 'on_hand', head: 'On hand', cell: onHand, kind: 'num', sort: 'on_hand' },
		{ name: 'committed', head: 'Committed', cell: committed, kind: 'num', sort: 'committed' },
		{ name: 'available', head: 'Available', cell: available, kind: 'num', sort: 'available' },
		{ name: 'backordered', head: 'Backordered', cell: owed, kind: 'num', sort: 'backordered' },
		{ name: 'incoming', head: 'Incoming', cell: incoming, kind: 'num', sort: 'incoming' },
		{ name: 'value', head: `Value ${session.currency}`, cell: value, kind: 'num', sort: 'value' },
		{ name: 'expires_on', head: 'Expires', cell: expires, kind: 'soft small' }
	];
	const THEN: readonly Column<Row>[] = [
		ITEM,
		PLACE,
		{ name: 'on_hand', head: 'On hand then', cell: plainOnHand, kind: 'num' },
		{ name: 'value', head: `Value then, ${session.currency}`, cell: plainValue, kind: 'num' }
	];
	const sheet = new SheetState(
		'stock',
		'Stock',
		(): readonly Column<Row>[] => (sheet.filters.as_at ? THEN : NOW),
		{ q: '', location: '', show: '', as_at: '' },
		page.url.searchParams
	);
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const stock = createInfiniteQuery(() => ({
		queryKey: ['stock', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/stock', {
					params: {
						query: { ...withIds(sheet.query, 'location'), cursor: pageParam, limit: 150 }
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	// A past day's figures are known row by row; they stand in the order of the items.
	$effect(() => {
		if (sheet.filters.as_at) sheet.sort = '';
	});
	const rows = $derived(stock.data?.pages.flatMap((p) => p.rows) ?? []);
	const first = $derived(stock.data?.pages[0]);

	const keyOf = (row: Row): string => `${row.item_id}-${row.location_id}`;

	if (wanted) {
		void Promise.all([
			ask(api.GET('/api/v1/items/{item_id}', { params: { path: { item_id: wanted } } })),
			sheet.opened
		]).then(([item]) => {
			sheet.filters.q = item.sku;
		});
	}
</script>

<Sheet question="What do we hold, and where?" tabs={SHELF_TABS} newPath="/shelf/opening">
	{#snippet lead()}{#if sheet.filters.as_at}What had happened by the end of {day(
				sheet.filters.as_at
			)}, whenever it was heard of: the sum of the moves up to then.{:else}Available is on hand less
			committed. Every underlined figure opens its Working.{/if}{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<PlaceFilter bind:value={sheet.filters.location} places={places.data} />
		<select class="field" aria-label="Show" bind:value={sheet.filters.show}>
			<option value="">everything</option><option value="held">in stock</option><option
				value="short">backordered or negative</option
			>
		</select>
		<label class="soft small at"
			>as at the end of <input class="field" type="date" bind:value={sheet.filters.as_at} /></label
		>
		<SheetTools {sheet} hasColumns={!sheet.filters.as_at} intake="stock" />
	{/snippet}
	{#if rows.length}
		<Rows
			{sheet}
			{rows}
			key={(row) => row.id}
			after={sheet.filters.as_at ? itsMoves : adjustIt}
			isSortable={!sheet.filters.as_at}
		/>
		<More query={stock} />
	{:else}
		<Pending
			query={stock}
			isEmpty
			empty={sheet.filters.show === 'short'
				? 'Nothing is backordered or negative.'
				: 'No stock yet. Import opening stock with its cost.'}
			first={sheet.filters.show === 'short'
				? undefined
				: { text: 'Opening stock', path: '/shelf/opening' }}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(first?.total_rows ?? 0, 'row')}</span>
		<span class="ml-auto"
			>Value <b class="double">{figure(Number(first?.total_value ?? 0).toFixed(2))}</b>
			{session.currency}</span
		>
	{/snippet}
</Sheet>

{#snippet itemOf(row: Row)}<ItemName
		id={row.item_id}
		title={row.title}
		sku={row.sku}
		picture={row.picture}
	/>{/snippet}
{#snippet place(row: Row)}{row.location}{/snippet}
{#snippet category(row: Row)}{row.category}{/snippet}
{#snippet onHand(row: Row)}<Fig
		value={row.on_hand}
		kind="on-hand"
		id={keyOf(row)}
		tone={row.on_hand.startsWith('-') ? 'madder' : ''}
	/>{/snippet}
{#snippet committed(row: Row)}<Fig
		value={row.committed}
		kind="committed"
		id={keyOf(row)}
	/>{/snippet}
{#snippet available(row: Row)}<Fig
		value={row.available}
		kind="available"
		id={keyOf(row)}
		tone={row.available.startsWith('-') ? 'madder' : ''}
	/>{/snippet}
{#snippet owed(row: Row)}{figure(row.backordered)}{/snippet}
{#snippet incoming(row: Row)}<Fig value={row.incoming} kind="incoming" id={keyOf(row)} />{/snippet}
{#snippet value(row: Row)}<Fig value={row.value} kind="value" id={keyOf(row)} />{/snippet}
{#snippet expires(row: Row)}{row.expires_on ? day(row.expires_on) : ''}{/snippet}
{#snippet plainOnHand(row: Row)}{figure(row.on_hand)}{/snippet}
{#snippet plainValue(row: Row)}{figure(row.value)}{/snippet}
{#snippet adjustIt(row: Row)}{#if session.may('adjust stock')}<button
			class="link"
			onclick={() => (adjusting = row)}>Adjust</button
		>{/if}
	{#if session.may('move stock between places')}<a
			class="link move"
			href="/shelf/transfers/new?from={row.location_id}&item={row.item_id}">Move</a
		>{/if}{/snippet}
{#snippet itsMoves(row: Row)}<a href="/shelf/moves?item={row.item_id}&location={row.location_id}"
		>Stock moves</a
	>{/snippet}
{#if adjusting}
	<Adjust
		row={adjusting}
		onclose={() => (adjusting = null)}
		ondone={() => {
			adjusting = null;
			void changed();
		}}
	/>
{/if}

<style>
	.at {
		display: flex;
		align-items: center;
		gap: 6px;
		white-space: nowrap;
	}
	.link {
		color: var(--reed);
		cursor: pointer;
		min-height: 24px;
	}
	.move {
		margin-left: 8px;
		text-decoration: none;
	}
	.link:hover {
		text-decoration: underline;
	}
</style>

<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { ITEM_FIELDS, SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import ItemName from '#lib/ui/ItemName.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['MoveRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'happened_at', head: 'Happened', cell: happened, kind: 'place day', sort: 'happened' },
		{
			name: 'recorded_at',
			head: 'Recorded',
			cell: recorded,
			kind: 'place day',
			sort: 'recorded',
			isSpare: true
		},
		{ name: 'title', head: 'Item', cell: itemOf, kind: 'long', fields: ITEM_FIELDS },
		{ name: 'location', head: 'Location', cell: locationOf, kind: 'place' },
		{
			name: 'reason',
			head: 'Reason',
			cell: reason,
			kind: 'long',
			fields: [
				['reason', 'Reason'],
				['note', 'Note']
			]
		},
		{ name: 'document', head: 'Document', cell: documentOf, kind: 'clip' },
		{ name: 'lot', head: 'Lot', cell: lot, kind: 'soft small' },
		{ name: 'quantity', head: 'Units', cell: units, kind: 'num' },
		{ name: 'value', head: `Value ${session.currency}`, cell: value, kind: 'num' }
	];
	const sheet = new SheetState(
		'moves',
		'Moves',
		() => COLUMNS,
		{ q: '', item: '', location: '' },
		page.url.searchParams
	);
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const moves = createInfiniteQuery(() => ({
		queryKey: ['moves', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/moves', {
					params: {
						query: { ...withIds(sheet.query, 'item', 'location'), cursor: pageParam, limit: 80 }
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(moves.data?.pages.flatMap((p) => p.rows) ?? []);
</script>

<Sheet question="What moved?" tabs={SHELF_TABS}>
	{#snippet lead()}Moves are never edited; a wrong one is put right by another.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<PlaceFilter bind:value={sheet.filters.location} places={places.data} />
		{#if sheet.filters.item}<button
				type="button"
				class="quiet"
				onclick={() => (sheet.filters.item = '')}>Show all items</button
			>{/if}
		<SheetTools {sheet} />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={moves} />
	{:else}<Pending query={moves} isEmpty empty="Nothing has moved yet." />{/if}
	{#snippet totals()}<span
			>{count(rows.length, 'move')} shown{sheet.sort ? '' : ', newest first'}</span
		>{/snippet}
</Sheet>

{#snippet happened(row: Row)}<span title="Recorded {moment(row.recorded_at)}"
		>{moment(row.happened_at)}</span
	>{/snippet}
{#snippet recorded(row: Row)}{moment(row.recorded_at)}{/snippet}
{#snippet itemOf(row: Row)}<ItemName id={row.item_id} title={row.title} sku={row.sku} />{/snippet}
{#snippet locationOf(row: Row)}{row.location}{/snippet}
{#snippet reason(row: Row)}{row.reason}{#if row.note}<span class="soft small">
			{row.note}</span
		>{/if}{/snippet}
{#snippet documentOf(row: Row)}{#if row.link}<a href={row.link}>{row.document}</a>{:else}<span
			class="soft">{row.document}</span
		>{/if}{/snippet}
{#snippet lot(row: Row)}{row.lot}{/snippet}
{#snippet units(row: Row)}{figure(row.quantity)}{/snippet}
{#snippet value(row: Row)}{figure(row.value)}{/snippet}

<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['TransferRow'];
	const STATES = ['open', 'draft', 'sent', 'part-received', 'received', 'cancelled'] as const;
	type State = '' | (typeof STATES)[number];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'number', head: 'Transfer', cell: number, sort: 'number' },
		{ name: 'source', head: 'From', cell: source, kind: 'place', sort: 'from', isGroup: true },
		{
			name: 'destination',
			head: 'To',
			cell: destination,
			kind: 'place',
			sort: 'to',
			isGroup: true
		},
		{ name: 'state', head: 'State', cell: standing, sort: 'state', isGroup: true },
		{ name: 'lines', head: 'Items', cell: lines, kind: 'num' },
		{ name: 'units', head: 'Units', cell: units, kind: 'num' },
		{ name: 'left', head: 'On the way', cell: left, kind: 'num' },
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
		}
	];
	const sheet = new SheetState(
		'transfers',
		'Transfers',
		() => COLUMNS,
		{ q: '', state: '', location: '' },
		page.url.searchParams
	);
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const transfers = createInfiniteQuery(() => ({
		queryKey: ['transfers', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/transfers', {
					params: {
						query: {
							...withIds(sheet.query, 'location'),
							state: sheet.filters.state as State,
							cursor: pageParam,
							limit: 80
						}
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(transfers.data?.pages.flatMap((p) => p.rows) ?? []);
	const mayMove = $derived(session.may('move stock between places'));
</script>

<Sheet
	question="What moves between our places?"
	tabs={SHELF_TABS}
	newPath={mayMove ? '/shelf/transfers/new' : undefined}
>
	{#snippet lead()}What is on the way belongs to neither place: it stands in Goods in transit until
		it arrives.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="State" bind:value={sheet.filters.state}>
			<option value="">every state</option>
			{#each STATES as name (name)}<option value={name}>{name}</option>{/each}
		</select>
		<PlaceFilter bind:value={sheet.filters.location} places={places.data} />
		<SheetTools {sheet} />
		{#if mayMove}<a class="do" href="/shelf/transfers/new">New transfer</a>{/if}
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={transfers} />
	{:else}
		<Pending
			query={transfers}
			isEmpty
			empty="Nothing moves between places here."
			first={mayMove ? { text: 'New transfer', path: '/shelf/transfers/new' } : undefined}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'transfer')}</span>{/snippet}
</Sheet>

{#snippet number(row: Row)}<a class="plain-link" href="/shelf/transfers/{row.id}">{row.number}</a
	>{/snippet}
{#snippet source(row: Row)}{row.source}{/snippet}
{#snippet destination(row: Row)}{row.destination}{/snippet}
{#snippet standing(row: Row)}<Mark state={row.state} ofGoods />{/snippet}
{#snippet lines(row: Row)}{row.lines}{/snippet}
{#snippet units(row: Row)}{figure(row.units)}{/snippet}
{#snippet left(row: Row)}{figure(row.left)}{/snippet}
{#snippet made(row: Row)}{moment(row.made_at)}{/snippet}
{#snippet expected(row: Row)}{day(row.expected_on)}
	{#if row.late}<Mark state="late" />{/if}{/snippet}

<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { BOOKS_TABS } from '#lib/tabs.ts';
	import Beam from '#lib/ui/Beam.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['TillCountRow'];
	type Show = 'all' | 'differing';
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'closed_at', head: 'Closed', cell: closed, kind: 'place', sort: 'closed' },
		{ name: 'till', head: 'Till', cell: till, kind: 'place', sort: 'till', isGroup: true },
		{ name: 'number', head: 'Count', cell: number, kind: 'place' },
		{ name: 'method', head: 'Paid by', cell: method, kind: 'place' },
		{
			name: 'opening',
			head: 'At the start',
			cell: opening,
			kind: 'num',
			title: 'What lay in the till when it was opened'
		},
		{
			name: 'taken',
			head: 'Taken',
			cell: taken,
			kind: 'num',
			title: 'What our sales since the close before come to'
		},
		{ name: 'expected', head: 'Should be there', cell: expected, kind: 'num' },
		{ name: 'counted', head: 'Counted', cell: counted, kind: 'num', sort: 'counted' },
		{ name: 'beam', head: '', cell: beam, kind: 'place', fields: [] },
		{ name: 'difference', head: 'Difference', cell: difference, kind: 'num' },
		{ name: 'since_at', head: 'Since', cell: since, kind: 'soft', isSpare: true }
	];
	const sheet = new SheetState(
		'till_counts',
		'Till counts',
		() => COLUMNS,
		{ q: '', connection: '', show: 'all' },
		page.url.searchParams
	);
	const counts = createInfiniteQuery(() => ({
		queryKey: ['till counts', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/till-counts', {
					params: {
						query: {
							...withIds(sheet.query, 'connection'),
							show: sheet.filters.show as Show,
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
	const connections = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const tills = $derived((connections.data ?? []).filter((one) => one.kind === 'till'));
	const rows = $derived(counts.data?.pages.flatMap((part) => part.rows) ?? []);
</script>

<Sheet question="Was in the till what should be?" tabs={BOOKS_TABS}>
	{#snippet lead()}When a till is closed, what is counted stands beside what was sold. A difference
		is booked, and follows sales that are heard of late.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Till" bind:value={sheet.filters.connection}>
			<option value="">every till</option>
			{#each tills as one (one.id)}<option value={`${one.id}`}>{one.name}</option>{/each}
		</select>
		<select class="field" aria-label="Which counts" bind:value={sheet.filters.show}>
			<option value="all">every count</option>
			<option value="differing">differing</option>
		</select>
		<SheetTools {sheet} />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={counts} />
	{:else}
		<Pending
			query={counts}
			isEmpty
			empty="Nothing was counted here. What a till counts when it is closed comes in by itself."
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'count')}</span>{/snippet}
</Sheet>

{#snippet closed(row: Row)}{moment(row.closed_at)}{/snippet}
{#snippet till(row: Row)}{row.till}{/snippet}
{#snippet number(row: Row)}<a class="plain-link" href="/books/documents/till-count/{row.count_id}"
		>{row.number}</a
	>{/snippet}
{#snippet method(row: Row)}{row.method.replaceAll('_', ' ')}{/snippet}
{#snippet opening(row: Row)}{figure(row.opening)}{/snippet}
{#snippet taken(row: Row)}{figure(row.taken)}{/snippet}
{#snippet expected(row: Row)}<Fig
		value={row.expected}
		kind="till-count"
		id={`${row.id}`}
	/>{/snippet}
{#snippet counted(row: Row)}{figure(row.counted)}{/snippet}
{#snippet beam(row: Row)}<Beam
		tilt={Number(row.difference)}
		label="{row.method} {Number(row.difference) ? 'differs' : 'agrees'}"
	/>{/snippet}
{#snippet difference(row: Row)}{#if Number(row.difference)}<b>{figure(row.difference)}</b
		>{:else}<span class="soft">–</span>{/if}{/snippet}
{#snippet since(row: Row)}{moment(row.since_at)}{/snippet}

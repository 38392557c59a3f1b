<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { ITEM_FIELDS, SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Shape from '#lib/charts/Shape.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	const head = createQuery(() => ({
		queryKey: ['forecasts'],
		queryFn: () => ask(api.GET('/api/v1/forecasts/head'))
	}));
	const run = $derived(head.data?.run);
	const isRunning = $derived(run?.state === 'running');
	type Row = Schemas['ForecastRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{
			name: 'title',
			head: 'Item',
			cell: itemOf,
			kind: 'long',
			sort: 'item',
			fields: ITEM_FIELDS
		},
		{
			name: 'location',
			head: 'Location',
			cell: place,
			kind: 'place',
			sort: 'location',
			isGroup: true
		},
		{ name: 'category', head: 'Category', cell: category, kind: 'soft clip', isSpare: true },
		{
			name: 'shape',
			head: 'Past year and forecast',
			cell: shape,
			title:
				'Units a week over the last year, shaded where nothing was in stock; then what is expected',
			fields: []
		},
		{ name: 'month', head: 'Next 30 days', cell: month, kind: 'num', sort: 'units' },
		{
			name: 'last_year',
			head: 'Same time last year',
			cell: lastYear,
			kind: 'num soft',
			title: 'The same 30 days, 52 weeks ago'
		},
		{
			name: 'method',
			head: 'Method',
			cell: by,
			kind: 'by',
			fields: [
				['method', 'Method'],
				['sentence', 'Why']
			]
		},
		{
			name: 'error',
			head: 'Error',
			cell: error,
			kind: 'num',
			title: 'Mean error beside repeating last year: below 1 is better'
		},
		{
			name: 'one_offs',
			head: 'One-offs set aside',
			cell: aside,
			kind: 'num',
			title: 'One-off orders left out of the demand'
		}
	];
	const sheet = new SheetState(
		'forecasts',
		'Forecasts',
		() => COLUMNS,
		{ q: '', location: '', method: '' },
		page.url.searchParams
	);
	const forecasts = createInfiniteQuery(() => ({
		// A run that has ended shows what it found.
		queryKey: ['forecast rows', sheet.query, run?.ended_at],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/forecasts', {
					params: {
						query: { ...withIds(sheet.query, 'location'), cursor: pageParam, limit: 80 }
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(forecasts.data?.pages.flatMap((part) => part.rows) ?? []);
	const left = $derived.by(() => {
		if (!run || !isRunning || !run.done) return '';
		const each = (Date.now() - new Date(run.started_at).getTime()) / run.done;
		const seconds = Math.ceil((each * (run.total - run.done)) / 1000);
		return seconds > 90
			? `, some ${Math.round(seconds / 60)} minutes to go`
			: `, ${seconds} s to go`;
	});

	async function act(work: () => Promise<unknown>): Promise<void> {
		try {
			await work();
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}
	const begin = (): Promise<void> =>
		act(() => ask(api.POST('/api/v1/forecasts/runs', { body: undefined })));
	const stop = (): Promise<void> =>
		act(async () => {
			const { said } = await ask(api.POST('/api/v1/forecasts/runs/stop', { body: undefined }));
			notices.say(said);
		});
</script>

<Sheet question="What will sell?" tabs={BUYING_TABS}>
	{#snippet lead()}
		{#if head.data?.n}
			{count(head.data.n, 'forecast')}{run ? ` from ${day(run.day)}` : ''}. Tested on past weeks,
			<b>{figure(String(head.data.closer), '0')} of {head.data.tested}</b> were closer than repeating
			last year.
		{/if}
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<PlaceFilter bind:value={sheet.filters.location} places={head.data?.locations} />
		<select class="field" aria-label="Method" bind:value={sheet.filters.method}>
			<option value="">every method</option>
			{#each head.data?.methods ?? [] as one (one.name)}<option value={one.name}
					>{one.name} ({one.n})</option
				>{/each}
		</select>
		{#if isRunning && run}
			<span class="work" role="status">
				<progress max={run.total || 1} value={run.done}>{run.done} of {run.total}</progress>
				{figure(String(run.done), '0')} of {figure(String(run.total), '0')}{left}
			</span>
			{#if session.may('buy')}<button class="quiet" onclick={stop}>Stop</button>{/if}
		{:else if session.may('buy')}
			<button class="quiet" onclick={begin}>Run the forecast</button>
		{/if}
		{#if run && !isRunning && run.state !== 'done'}<span class="said">{run.said}</span>{/if}
		<SheetTools {sheet} intake="past_sales" />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => `${row.item_id}-${row.location_id}`} />
		<More query={forecasts} />
	{:else}
		<Pending
			query={forecasts}
			isEmpty
			empty={sheet.filters.q || sheet.filters.location || sheet.filters.method
				? 'No forecast fits this filter.'
				: 'Nothing has been forecast yet. It is done once a day, of everything that was ever in stock.'}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(rows.length, 'row')}{forecasts.hasNextPage ? ' so far' : ''}</span>
		<span class="soft ml-auto"
			>Error: mean error on the past beside repeating last year; below 1 is better.</span
		>
	{/snippet}
</Sheet>

{#snippet itemOf(row: Row)}<a
		class="plain-link"
		href="/buying/forecasts/{row.item_id}/{row.location_id}">{row.title}</a
	>
	<span class="soft small whitespace-nowrap">{row.sku}</span>{/snippet}
{#snippet place(row: Row)}{row.location}{/snippet}
{#snippet category(row: Row)}{row.category}{/snippet}
{#snippet shape(row: Row)}<Shape past={row.past} ahead={row.ahead} />{/snippet}
{#snippet month(row: Row)}<Fig
		value={Number(row.month).toFixed(1)}
		kind="month"
		id={`${row.item_id}-${row.location_id}`}
	/>{/snippet}
{#snippet lastYear(row: Row)}{row.last_year === null
		? 'not in stock'
		: figure(row.last_year, '0')}{/snippet}
{#snippet by(row: Row)}<span class="by" title={row.sentence}
		>{row.why === 'borrowed' ? 'its category' : row.method}
		{#if row.why === 'asked'}<span class="soft small">as asked</span>{/if}
		{#if row.why === 'short'}<span class="soft small">short past</span>{/if}
		{#if row.why === 'stopped'}<span class="soft small">stopped selling</span>{/if}</span
	>{/snippet}
{#snippet error(row: Row)}<span class:worse={(row.error ?? 0) > 1}
		>{row.error === null ? '–' : row.error.toFixed(2)}</span
	>{/snippet}
{#snippet aside(row: Row)}{figure(String(row.one_offs))}{/snippet}

<style>
	.worse {
		color: var(--ochre);
		font-weight: 600;
	}
	.by {
		white-space: nowrap;
	}
	.work {
		display: inline-flex;
		align-items: center;
		gap: 8px;
	}
	progress {
		appearance: none;
		width: 140px;
		height: 8px;
		border-radius: 3px;
		overflow: hidden;
		background: var(--rule);
	}
	progress::-webkit-progress-bar {
		background: var(--rule);
	}
	progress::-webkit-progress-value {
		background: var(--reed);
	}
	progress::-moz-progress-bar {
		background: var(--reed);
	}
	.said {
		color: var(--madder);
	}
</style>

<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['RunRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'started_at', head: 'When', cell: when, kind: 'place day' },
		{ name: 'connection', head: 'Connection', cell: connection, kind: 'place' },
		{ name: 'label', head: 'What', cell: what, kind: 'place' },
		{ name: 'state', head: 'State', cell: standing },
		{ name: 'seconds', head: 'Seconds', cell: seconds, kind: 'num' },
		{ name: 'taken', head: 'New', cell: taken, kind: 'num' },
		{ name: 'changed', head: 'Changed', cell: changed, kind: 'num' },
		{ name: 'unchanged', head: 'Unchanged', cell: unchanged, kind: 'num' },
		{ name: 'failed', head: 'Failed', cell: failed, kind: 'num' },
		{ name: 'calls', head: 'Calls', cell: calls, kind: 'num' },
		{ name: 'said', head: 'Said', cell: said, kind: 'long' },
		{ name: 'asked_by', head: 'Asked by', cell: askedBy, kind: 'place', isSpare: true }
	];
	const sheet = new SheetState(
		'runs',
		'Runs',
		() => COLUMNS,
		{ q: '', connection: '', kind: '', state: 'some' },
		page.url.searchParams
	);
	const runs = createInfiniteQuery(() => ({
		queryKey: ['runs', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/runs', {
					params: {
						query: {
							...sheet.query,
							connection: Number(sheet.query.connection) || undefined,
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
	const connections = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const rows = $derived(runs.data?.pages.flatMap((one) => one.rows) ?? []);
	const kinds = $derived(runs.data?.pages[0]?.kinds ?? []);
</script>

<Sheet question="What was exchanged?" tabs={CONNECTION_TABS}>
	{#snippet lead()}Every exchange with every connection, with what was sent and answered.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Connection" bind:value={sheet.filters.connection}>
			<option value="">every connection</option>
			{#each connections.data ?? [] as one (one.id)}<option value={`${one.id}`}>{one.name}</option
				>{/each}
		</select>
		<select class="field" aria-label="What" bind:value={sheet.filters.kind}>
			<option value="">everything</option>
			{#each kinds as one (one.kind)}<option value={one.kind}>{one.label}</option>{/each}
		</select>
		<select class="field" aria-label="State" bind:value={sheet.filters.state}>
			<option value="some">that did something</option><option value="">every run</option>
			{#each ['running', 'done', 'failed', 'stopped'] as name (name)}<option value={name}
					>{name}</option
				>{/each}
		</select>
		<SheetTools {sheet} />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={runs} />
	{:else}
		<Pending
			query={runs}
			isEmpty
			empty="Nothing here. A connection that is live exchanges by its schedule."
			first={{ text: 'Connections', path: '/connections' }}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'run')}{runs.hasNextPage ? ' shown' : ''}</span
		>{/snippet}
</Sheet>

{#snippet when(row: Row)}<a class="plain-link" href="/connections/runs/{row.id}"
		>{moment(row.started_at)}</a
	>{/snippet}
{#snippet connection(row: Row)}{row.connection}{/snippet}
{#snippet what(row: Row)}{row.label}{/snippet}
{#snippet standing(row: Row)}<Mark state={row.state} />{/snippet}
{#snippet seconds(row: Row)}{row.seconds === null ? '–' : row.seconds.toFixed(1)}{/snippet}
{#snippet taken(row: Row)}{figure(`${row.taken}`)}{/snippet}
{#snippet changed(row: Row)}{figure(`${row.changed}`)}{/snippet}
{#snippet unchanged(row: Row)}{figure(`${row.unchanged}`)}{/snippet}
{#snippet failed(row: Row)}<span class:bad={row.failed > 0}>{figure(`${row.failed}`)}</span
	>{/snippet}
{#snippet calls(row: Row)}{figure(`${row.calls}`)}{/snippet}
{#snippet said(row: Row)}{row.said}{/snippet}
{#snippet askedBy(row: Row)}{row.asked_by || 'by itself'}{/snippet}

<style>
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
</style>

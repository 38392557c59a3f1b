<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { BOOKS_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Posted from '#lib/ui/Posted.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	// Entries are drawn with their lines under one another; a file has a line for each.
	const COLUMNS: readonly Column<Schemas['EntryOut']>[] = [
		{ name: 'date', head: 'Date' },
		{ name: 'document', head: 'Document' },
		{ name: 'kind', head: 'What' },
		{ name: 'memo', head: 'Memo' },
		{
			name: 'account',
			head: 'Account',
			fields: [
				['account', 'Account'],
				['name', 'Name of account'],
				['item', 'Item']
			]
		},
		{ name: 'debit', head: `Debit ${session.currency}` },
		{ name: 'credit', head: `Credit ${session.currency}` },
		{
			name: 'ledger_number',
			head: 'Ledger document',
			fields: [
				['ledger_kind', 'Ledger document'],
				['ledger_number', 'Number in the ledger'],
				['ledger_state', 'State in the ledger']
			]
		}
	];
	const sheet = new SheetState(
		'journal',
		'Journal',
		() => COLUMNS,
		{ q: '', kind: '' },
		page.url.searchParams
	);
	const KINDS = [
		'receipt',
		'invoice',
		'cost',
		'prepayment',
		'adjustment',
		'opening',
		'bill',
		'transfer',
		'till count',
		'summary'
	];
	const journal = createInfiniteQuery(() => ({
		queryKey: ['journal', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/journal', {
					params: { query: { ...sheet.query, cursor: pageParam, limit: 40 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(journal.data?.pages.flatMap((p) => p.rows) ?? []);
</script>

<Sheet question="What was posted?" tabs={BOOKS_TABS}>
	{#snippet lead()}Entries are never edited. Each is told to the outside ledger once.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Kind" bind:value={sheet.filters.kind}>
			<option value="">every kind</option>
			{#each KINDS as name (name)}<option value={name}>{name}</option>{/each}
		</select>
		<SheetTools {sheet} hasColumns={false} />
	{/snippet}
	{#if rows.length}
		<Posted entries={rows} isOfMany />
		<More query={journal} />
	{:else}<Pending query={journal} isEmpty empty="Nothing posted yet." />{/if}
	{#snippet totals()}<span>{count(rows.length, 'entry', 'entries')} shown, newest first</span
		>{/snippet}
</Sheet>

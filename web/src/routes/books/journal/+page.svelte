<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { BOOKS_TABS } from '#lib/tabs.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
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
		refetchInterval: 6000,
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
		<table class="rows">
			<thead
				><tr
					><th>Date</th><th>Document</th><th>What</th><th>Account</th><th class="num"
						>Debit {session.currency}</th
					><th class="num">Credit {session.currency}</th><th>Ledger document</th></tr
				></thead
			>
			{#each rows as entry (entry.id)}
				<tbody class="entry">
					{#if entry.fault}<tr data-row
							><td class="soft">{day(entry.date)}</td><td>{entry.document}</td><Faulty
								said={entry.fault}
								span={5}
							/></tr
						>{/if}
					{#each entry.lines as line, n (n)}
						<tr data-row={n === 0 ? true : undefined}>
							<td class="soft">{n === 0 ? day(entry.date) : ''}</td>
							<td
								>{#if n === 0}{#if entry.link}<a href={entry.link}>{entry.document}</a
										>{:else}{entry.document}{/if}{/if}</td
							>
							<td class="memo"
								>{#if n === 0}<Fig value={entry.kind} kind="entry" id={`${entry.id}`} />
									<span class="soft small">{entry.memo}</span>{/if}</td
							>
							<td class:credit={line.credit !== null}
								><span class="soft small">{line.account}</span>
								{line.name} <span class="soft small">{line.item}</span></td
							>
							<td class="num">{line.debit === null ? '' : figure(line.debit)}</td>
							<td class="num">{line.credit === null ? '' : figure(line.credit)}</td>
							<td
								>{#if n === 0 && entry.ledger_state}<Mark
										state={entry.ledger_state}
										note="{entry.ledger_kind} {entry.ledger_number}"
									/>{/if}</td
							>
						</tr>
					{/each}
				</tbody>
			{/each}
		</table>
		<More query={journal} />
	{:else}<Pending query={journal} isEmpty empty="Nothing posted yet." />{/if}
	{#snippet totals()}<span>{count(rows.length, 'entry', 'entries')} shown, newest first</span
		>{/snippet}
</Sheet>

<style>
	.entry td {
		border-bottom: none;
		height: 25px;
		padding-top: 2px;
		padding-bottom: 2px;
	}
	.entry tr:last-child td {
		border-bottom: 1px solid var(--rule);
		padding-bottom: 6px;
	}
	.entry tr:first-child td {
		padding-top: 6px;
	}
	.credit {
		padding-left: 26px !important;
	}
	.memo {
		max-width: 260px;
	}
</style>

<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { day, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';

	/** What was posted: entries with their lines, and what the outside ledger was told of each; `isOfMany`: with the
	 * document that each comes from. */
	type Props = { entries: Schemas['EntryOut'][]; isOfMany?: boolean };
	let { entries, isOfMany = false }: Props = $props();
</script>

<table class="rows">
	<thead
		><tr
			><th>Date</th>{#if isOfMany}<th>Document</th>{/if}<th>What</th><th>Account</th><th class="num"
				>Debit {session.currency}</th
			><th class="num">Credit {session.currency}</th><th>Ledger document</th></tr
		></thead
	>
	{#each entries as entry (entry.id)}
		<tbody class="entry">
			{#if entry.fault}<tr data-row
					><td class="soft">{day(entry.date)}</td>{#if isOfMany}<td>{entry.document}</td
						>{/if}<Faulty said={entry.fault} span={5} /></tr
				>{/if}
			{#each entry.lines as line, n (n)}
				<tr data-row={n === 0 ? true : undefined}>
					<td class="soft">{n === 0 ? day(entry.date) : ''}</td>
					{#if isOfMany}<td
							>{#if n === 0}{#if entry.link}<a href={entry.link}>{entry.document}</a
									>{:else}{entry.document}{/if}{/if}</td
						>{/if}
					<td class="memo"
						>{#if n === 0}<Fig value={entry.kind} kind="entry" id={`${entry.id}`} />
							{#if isOfMany}<span class="soft small">{entry.memo}</span>{/if}{/if}</td
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
	.memo {
		max-width: 260px;
	}
	.credit {
		padding-left: 26px !important;
	}
</style>

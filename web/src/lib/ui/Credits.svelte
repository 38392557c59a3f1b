<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';

	/** Credit notes beside their order or return. */
	type Props = { rows: Schemas['CreditOut'][]; channel: string };
	let { rows, channel }: Props = $props();
	const way = (row: Schemas['CreditOut']): string =>
		row.way === 'by the channel'
			? `by ${channel}${row.told ? '' : ', which is being asked'}`
			: row.way;
</script>

<table class="rows">
	<thead
		><tr
			><th>Credit note</th><th>When</th><th>How</th><th>Note</th><th>Ledger</th><th class="num"
				>Kept</th
			><th class="num">Credited {session.currency}</th></tr
		></thead
	>
	<tbody>
		{#each rows as row (row.id)}
			<tr data-row
				><td
					><a class="number" href="/orders/documents/credit-note/{row.id}">{row.number}</a>
					<a
						class="small paper"
						href="/api/v1/documents/credit-note/{row.id}/forms/credit-note"
						target="_blank"
						rel="noreferrer">PDF</a
					></td
				><td class="soft">{moment(row.issued_at)}</td><td>{way(row)}</td><td class="soft"
					>{row.note || '–'}</td
				><td
					>{#if row.ledger_state === 'none'}–{:else}<Mark state={row.ledger_state} />{/if}</td
				><td class="num">{Number(row.fee) ? figure(row.fee) : '–'}</td><td class="num"
					><Fig value={row.total} kind="credit" id={`${row.id}`} /></td
				></tr
			>
		{/each}
	</tbody>
</table>

<style>
	.number,
	.paper {
		display: inline-block;
		min-width: 24px;
		line-height: 24px;
	}
	.paper {
		margin-left: 6px;
	}
</style>

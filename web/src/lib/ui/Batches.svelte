<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { moment } from '#lib/format.ts';
	import Mark from './Mark.svelte';

	/** Batches handed in to an account that works on them later, and what came of each. */
	type Props = { rows: readonly Schemas['BatchOut'][] };
	let { rows }: Props = $props();
	const seconds = (row: Schemas['BatchOut']): string =>
		row.ended_at
			? `${Math.round((new Date(row.ended_at).getTime() - new Date(row.submitted_at).getTime()) / 1000)} s`
			: '·';
</script>

<section>
	<h2>Batches handed in</h2>
	<table class="rows" aria-label="Batches handed in">
		<thead
			><tr
				><th>Handed in</th><th>What</th><th>State</th><th class="num">Lines</th><th class="num"
					>Refused</th
				><th class="num">Took</th><th>The account’s number</th></tr
			></thead
		>
		<tbody>
			{#each rows as row (row.id)}
				<tr data-row
					><td class="place">{moment(row.submitted_at)}</td><td class="place">{row.sort}</td><td
						><Mark state={row.state} /></td
					><td class="num">{row.size}</td><td class="num" class:bad={row.refused > 0}
						>{row.refused || '·'}</td
					><td class="num">{seconds(row)}</td><td class="soft place">{row.key}</td></tr
				>
			{:else}<tr
					><td colspan="7" class="soft"
						>None yet. What changes is handed in together, and read back when the account has worked
						on it.</td
					></tr
				>{/each}
		</tbody>
	</table>
</section>

<style>
	h2 {
		padding: 0 20px 4px;
	}
	.bad {
		color: var(--madder);
	}
</style>

<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import Faulty from '#lib/ui/Faulty.svelte';

	/** What one document moved on the shelves. */
	type Props = { moves: Schemas['MoveRow'][] };
	let { moves }: Props = $props();
</script>

<table class="rows">
	<thead
		><tr
			><th>Item</th><th>Location</th><th>Lot</th><th>Reason</th><th class="num">Units</th><th
				class="num">Value {session.currency}</th
			></tr
		></thead
	>
	<tbody>
		{#each moves as move (move.id)}
			<tr data-row>
				<td
					><a class="plain-link" href="/range/items/{move.item_id}">{move.title}</a>
					<span class="soft small">{move.sku}</span></td
				>
				{#if move.fault}<Faulty said={move.fault} span={5} />{:else}
					<td>{move.location}</td>
					<td class="soft small">{move.lot}</td>
					<td class="soft">{move.reason}</td>
					<td class="num">{figure(move.quantity)}</td>
					<td class="num">{figure(move.value)}</td>
				{/if}
			</tr>
		{/each}
	</tbody>
</table>

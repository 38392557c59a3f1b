<script lang="ts">
	import type { Snippet } from 'svelte';

	/** The page of one thing: what it consists of, and beside it what surrounds it. */
	type Props = { children: Snippet; side: Snippet };
	let { children, side }: Props = $props();
</script>

<div class="frame">
	<div class="page">
		<div class="most">{@render children()}</div>
		<div class="side">{@render side()}</div>
	</div>
</div>

<style>
	.frame {
		container-type: inline-size;
		min-height: 100%;
		display: grid;
	}
	.page {
		display: grid;
		grid-template-columns: minmax(0, 2.5fr) minmax(270px, 1fr);
	}
	.most {
		min-width: 0;
	}
	.most :global(h2) {
		padding: 20px 20px 4px;
	}
	.side {
		display: grid;
		gap: 20px;
		align-content: start;
		padding: 14px 20px 20px;
		background: var(--paper);
		border-left: 1px solid var(--rule);
		min-width: 0;
		overflow-wrap: anywhere;
	}
	/* Facts by name, and sums as in accounts. */
	.side :global(dl) {
		display: grid;
		grid-template-columns: 76px minmax(0, 1fr);
		gap: 4px 10px;
		margin-top: 4px;
	}
	.side :global(dt) {
		color: var(--ink-soft);
	}
	.side :global(.sum) {
		width: 100%;
	}
	.side :global(.sum td) {
		padding: 3px 0;
		vertical-align: top;
	}
	.side :global(.sum .num) {
		text-align: right;
		font-variant-numeric: tabular-nums;
	}
	.side :global(.sum .total td) {
		border-top: 1px solid var(--ink);
		border-bottom: 3px double var(--ink);
		font-weight: 600;
	}
	/* Beside an open Working, or on a small screen, what surrounds it stands below. */
	@container (max-width: 1000px) {
		.page {
			grid-template-columns: minmax(0, 1fr);
		}
		.side {
			grid-template-columns: repeat(auto-fit, minmax(250px, 1fr));
			gap: 20px 32px;
			border-left: 0;
			border-top: 1px solid var(--rule);
		}
	}
</style>

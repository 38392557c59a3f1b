<script lang="ts">
	import type { Snippet } from 'svelte';

	/** What there is to say of one thing in a line of facts: pairs of dt and dd, each in a div. `isOfFigures`: written large. */
	type Props = { children: Snippet; isOfFigures?: boolean };
	let { children, isOfFigures = false }: Props = $props();
</script>

<dl class:figures={isOfFigures}>{@render children()}</dl>

<style>
	dl {
		display: flex;
		flex-wrap: wrap;
		gap: 6px 34px;
		padding: 12px 20px;
		border-bottom: 1px solid var(--rule);
	}
	dl :global(dt) {
		font-size: 12px;
		color: var(--ink-soft);
		font-weight: 600;
	}
	.figures :global(dd) {
		font-size: 17px;
		line-height: 26px;
		font-variant-numeric: tabular-nums;
	}
</style>

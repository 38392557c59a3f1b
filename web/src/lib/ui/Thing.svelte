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

<script lang="ts">
	import type { Snippet } from 'svelte';

	/** One step of a set-up: its number, what it is, how it stands, and what to do. */
	type Props = {
		n: number;
		title: string;
		isDone?: boolean;
		/** Whether it can be taken already. */
		isOpen?: boolean;
		children: Snippet;
		go?: Snippet;
	};
	let { n, title, isDone = false, isOpen = true, children, go }: Props = $props();
</script>

<li class:done={isDone} class:later={!isOpen}>
	<span class="n" aria-hidden="true">{isDone ? '✓' : n}</span>
	<div class="what">
		<h3>
			{title}{#if isDone}<span class="soft small">&ensp;done</span>{/if}
		</h3>
		<div class="body">{@render children()}</div>
	</div>
	<div class="go">{@render go?.()}</div>
</li>

<style>
	li {
		display: grid;
		grid-template-columns: 34px 1fr auto;
		gap: 0 14px;
		padding: 12px 0 14px;
		border-bottom: 1px solid var(--rule);
	}
	.n {
		width: 28px;
		height: 28px;
		border: 1.5px solid var(--ink-soft);
		border-radius: 50%;
		display: grid;
		place-items: center;
		font-weight: 600;
		font-variant-numeric: tabular-nums;
		position: relative;
	}
	.done .n {
		background: var(--reed);
		border-color: var(--reed);
		color: var(--paper);
	}
	.later h3,
	.later .n {
		color: var(--ink-soft);
	}
	h3 {
		font-weight: 600;
		font-size: 16px;
		line-height: 28px;
	}
	.body {
		display: grid;
		gap: 6px;
		max-width: 820px;
	}
	.body :global(p) {
		margin: 0;
	}
	.go {
		display: flex;
		gap: 10px;
		align-items: end;
		align-self: start;
	}
</style>

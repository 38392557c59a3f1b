<script lang="ts">
	import { notices } from '#lib/notice.svelte.ts';
</script>

<div class="notices" aria-live="polite">
	{#each notices.list as note (note.id)}
		<p class:bad={note.bad} role={note.bad ? 'alert' : 'status'}>
			<span>{note.text}</span>
			{#if note.undo}<button class="undo" onclick={() => notices.undo(note)}>Undo</button>{/if}
			<button onclick={() => notices.drop(note.id)} aria-label="Dismiss">×</button>
		</p>
	{/each}
</div>

<style>
	.notices {
		position: fixed;
		bottom: 60px;
		left: 20px;
		display: grid;
		gap: 8px;
		z-index: 60;
		max-width: 520px;
	}
	p {
		background: var(--ink);
		color: var(--paper);
		padding: 8px 12px;
		border-radius: 3px;
		display: flex;
		gap: 12px;
		justify-content: space-between;
		align-items: start;
	}
	.bad {
		background: var(--madder-tint);
		color: var(--madder);
		border: 1px solid var(--madder);
	}
	.undo {
		text-decoration: underline;
		margin-left: auto;
	}
	button {
		cursor: pointer;
		min-width: 24px;
		min-height: 24px;
	}
</style>

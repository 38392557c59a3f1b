<script lang="ts">
	/** Somebody else saved while this person was typing: nothing is lost and nothing is overwritten unasked. */
	type Props = { onkeep: () => void; ontake: () => void };
	let { onkeep, ontake }: Props = $props();
</script>

<div class="overtaken" role="alert">
	<span
		>Somebody changed this after you began to type. What you typed is still here; the rest shows
		what they saved.</span
	>
	<button type="button" class="quiet" onclick={onkeep}>Keep what I typed</button>
	<button type="button" class="quiet" onclick={ontake}>Take theirs</button>
</div>

<style>
	.overtaken {
		display: flex;
		flex-wrap: wrap;
		align-items: center;
		gap: 8px 12px;
		padding: 8px 20px;
		background: var(--ochre-tint);
		border-bottom: 1px solid var(--rule-strong);
	}
</style>

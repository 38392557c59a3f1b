<script lang="ts" generics="T extends object">
	import type { Snippet } from 'svelte';
	import type { FormState } from './FormState.svelte.ts';

	/** Below a form: save, undo, and why it was refused. */
	type Props = { form: FormState<T>; save: string; mayAlways?: boolean; children?: Snippet };
	let { form, save, mayAlways = false, children }: Props = $props();
</script>

<div class="save">
	<button class="do" disabled={(!form.isEdited && !mayAlways) || form.isOvertaken || form.busy}
		>{save}</button
	>
	{#if form.isEdited}<button type="button" class="quiet" onclick={() => form.drop()}>Undo</button
		>{/if}
	{@render children?.()}
	<span class="bad" role="alert">{form.refusal?.message ?? ''}</span>
</div>

<style>
	.save {
		display: flex;
		gap: 10px;
		align-items: center;
		flex-wrap: wrap;
		margin-top: 14px;
	}
	.bad {
		color: var(--madder);
	}
</style>

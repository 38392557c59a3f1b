<script lang="ts" generics="T extends object, V extends string | number">
	import type { FormState } from './FormState.svelte.ts';

	/** Several of a few things, each with a box to tick; what is kept is a list. */
	type Choice = { value: V; label: string };
	type Props = {
		form: FormState<T>;
		name: keyof T & string;
		label: string;
		choices: readonly Choice[];
	};
	let { form, name, label, choices }: Props = $props();
	const chosen = $derived(form.value[name] as V[]);
	const toggle = (value: V): void =>
		form.set({
			[name]: chosen.includes(value) ? chosen.filter((one) => one !== value) : [...chosen, value]
		} as Partial<T>);
</script>

<div class="ask" role="group" aria-label={label}>
	{label}
	{#each choices as choice (choice.value)}
		<label class="tick"
			><input
				type="checkbox"
				checked={chosen.includes(choice.value)}
				onchange={() => toggle(choice.value)}
			/>
			{choice.label}</label
		>
	{/each}
</div>

<style>
	.tick {
		display: flex;
		gap: 7px;
		align-items: center;
		font-size: 14px;
		font-weight: 400;
		color: var(--ink);
		min-height: 24px;
	}
</style>

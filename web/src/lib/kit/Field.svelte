<script lang="ts" generics="T extends object">
	import type { FormState } from './FormState.svelte.ts';

	/** One field of a form: its label, what is in it, and whether it was refused. */
	type Choice = { value: string; label: string };
	type Props = {
		form: FormState<T>;
		name: keyof T & string;
		label: string;
		kind?: 'text' | 'long' | 'number' | 'choice' | 'tick' | 'day' | 'password';
		/** What a browser may fill in by itself. */
		fill?: 'current-password' | 'new-password' | 'off';
		choices?: readonly Choice[];
		/** Words to choose from while typing. */
		hints?: readonly string[];
		max?: number;
		hint?: string;
	};
	let {
		form,
		name,
		label,
		kind = 'text',
		choices = [],
		hints = [],
		max,
		hint,
		fill
	}: Props = $props();
	const id = $props.id();
	const value = $derived(form.value[name]);
	const put = (next: unknown): void => form.set({ [name]: next } as Partial<T>);
</script>

{#if kind === 'tick'}
	<label class="tick"
		><input
			type="checkbox"
			checked={value === true}
			onchange={(event) => put(event.currentTarget.checked)}
		/>
		{label}</label
	>
{:else}
	<label class="ask"
		>{label}
		{#if kind === 'long'}<textarea
				class="field"
				rows="3"
				maxlength={max}
				aria-invalid={form.wrong(name)}
				value={`${value ?? ''}`}
				oninput={(event) => put(event.currentTarget.value)}
			></textarea>
		{:else if kind === 'choice'}<select
				class="field"
				aria-invalid={form.wrong(name)}
				value={`${value ?? ''}`}
				onchange={(event) => put(event.currentTarget.value)}
			>
				{#each choices as choice (choice.value)}<option value={choice.value}>{choice.label}</option
					>{/each}
			</select>
		{:else}<input
				class="field"
				type={kind === 'day' ? 'date' : kind === 'password' ? 'password' : 'text'}
				autocomplete={fill}
				inputmode={kind === 'number' ? 'decimal' : undefined}
				maxlength={max}
				list={hints.length ? id : undefined}
				aria-invalid={form.wrong(name)}
				value={`${value ?? ''}`}
				oninput={(event) => put(event.currentTarget.value)}
			/>{/if}
		{#if hint}<span class="soft small">{hint}</span>{/if}
	</label>
	{#if hints.length}<datalist {id}
			>{#each hints as word (word)}<option value={word}></option>{/each}</datalist
		>{/if}
{/if}

<style>
	.tick {
		display: flex;
		gap: 7px;
		align-items: center;
		min-height: 24px;
	}
	textarea.field {
		height: auto;
		resize: vertical;
		padding-block: 6px;
	}
</style>

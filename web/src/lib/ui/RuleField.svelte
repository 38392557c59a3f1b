<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import type { RuleEdits } from '#lib/kit/RuleEdits.svelte.ts';
	import WordMap from './WordMap.svelte';

	/** Where one rule is set, as its type is. */
	type Props = {
		one: Schemas['SettingOut'];
		edits: RuleEdits;
		words: readonly Schemas['WordOut'][];
		offered?: { value: string; label: string }[];
		allowed?: Record<string, readonly string[]>;
		isWrong: boolean;
		disabled: boolean;
	};
	let { one, edits, words, offered, allowed, isWrong, disabled }: Props = $props();
	const value = $derived(edits.valueOf(one));
	const rung = $derived(edits.rungOf(one));
	/** It is set to no limit. */
	const isOpen = $derived(edits.isSet(one) && value === null);
</script>

{#if one.type === 'map'}
	<WordMap
		setting={one}
		{words}
		{offered}
		{allowed}
		value={`${value ?? ''}`}
		inherited={`${rung?.inherited_value ?? ''}`}
		{disabled}
		onchange={(text) => edits.set(one, text)}
	/>
{:else if one.choices.length}
	<select
		class="field"
		aria-label={one.label}
		{disabled}
		value={`${value ?? ''}`}
		onchange={(event) => edits.set(one, event.currentTarget.value)}
	>
		<option value="">inherits: {rung?.inherited}</option>
		{#each one.choices as choice (choice.value)}<option value={choice.value}>{choice.label}</option
			>{/each}
	</select>
{:else if one.type === 'template'}
	<textarea
		class="field template"
		rows="2"
		maxlength="4000"
		spellcheck="false"
		aria-label={one.label}
		aria-invalid={isWrong}
		{disabled}
		placeholder={rung?.inherited}
		value={`${value ?? ''}`}
		oninput={(event) => edits.set(one, event.currentTarget.value)}
	></textarea>
{:else}
	<span class="amount" class:wide={one.type === 'text'}>
		<input
			class="field"
			type={['date', 'time'].includes(one.type) ? one.type : 'text'}
			inputmode={one.type === 'text' ? 'text' : 'decimal'}
			aria-label={one.label}
			aria-invalid={isWrong}
			disabled={disabled || isOpen}
			placeholder={rung?.inherited}
			value={value ?? ''}
			oninput={({ currentTarget: { value: text } }) =>
				edits.set(one, one.type === 'text' ? text : text.trim())}
		/>
		{#if one.limitless}<label class="tick small"
				><input
					type="checkbox"
					{disabled}
					checked={isOpen}
					onchange={(event) =>
						event.currentTarget.checked ? edits.set(one, null) : edits.again(one)}
				/>
				{one.no_limit}</label
			>{/if}
	</span>
{/if}

<style>
	.template {
		height: auto;
		width: 100%;
		min-width: 260px;
		padding-block: 6px;
		resize: vertical;
		font-family: ui-monospace, monospace;
		font-size: 13px;
	}
	.amount {
		display: flex;
		gap: 10px;
		align-items: center;
	}
	.amount .field {
		width: 116px;
	}
	.amount [type='date'] {
		width: 150px;
	}
	.amount.wide .field {
		width: 100%;
	}
	.tick {
		display: flex;
		gap: 5px;
		align-items: center;
		white-space: nowrap;
		min-height: 24px;
	}
</style>

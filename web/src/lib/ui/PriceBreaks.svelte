<script lang="ts" module>
	/** A unit price from a quantity on. */
	export type Break = { from_quantity: string; price: string };
</script>

<script lang="ts" generics="T extends { prices: Break[] }">
	import type { FormState } from '#lib/kit/FormState.svelte.ts';

	/** Unit prices of a form, each from a quantity on; the first from none. */
	type Props = { form: FormState<T>; currency: string };
	let { form, currency }: Props = $props();
	const prices = $derived(form.value.prices);
	const set = (prices: Break[]): void => form.set({ prices } as Partial<T>);
	const put = (at: number, change: Partial<Break>): void =>
		set(prices.map((row, n) => (n === at ? { ...row, ...change } : row)));
</script>

<fieldset>
	<legend>Unit price, {currency}</legend>
	{#each prices as row, at (at)}
		<div class="price">
			<label
				>from <input
					class="field"
					inputmode="decimal"
					aria-label="From quantity, {at + 1}"
					readonly={at === 0}
					value={row.from_quantity}
					oninput={(event) => put(at, { from_quantity: event.currentTarget.value })}
				/></label
			>
			<input
				class="field"
				inputmode="decimal"
				aria-label="Price, {at + 1}"
				aria-invalid={form.wrong('prices')}
				value={row.price}
				oninput={(event) => put(at, { price: event.currentTarget.value })}
			/>
			{#if at > 0}<button
					type="button"
					class="quiet"
					aria-label="Remove price {at + 1}"
					onclick={() => set(prices.filter((_, n) => n !== at))}>×</button
				>{/if}
		</div>
	{/each}
	<button
		type="button"
		class="quiet"
		onclick={() => set([...prices, { from_quantity: '', price: '' }])}>Add a price break</button
	>
</fieldset>

<style>
	fieldset {
		display: grid;
		gap: 6px;
		justify-items: start;
	}
	legend {
		font-size: 12px;
		font-weight: 600;
		color: var(--ink-soft);
		margin-bottom: 3px;
	}
	.price {
		display: flex;
		gap: 8px;
		align-items: center;
	}
	.price .field {
		width: 96px;
		text-align: right;
	}
	.price .field[readonly] {
		background: none;
		border-color: transparent;
	}
</style>

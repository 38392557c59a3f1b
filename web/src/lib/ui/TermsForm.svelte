<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { untrack } from 'svelte';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import Dialogue from './Dialogue.svelte';

	/** How a supplier sells an item; without terms, one of the range that it does not sell yet is chosen first. */
	type Props = {
		supplier: Schemas['SupplierOut'];
		terms: Schemas['TermsOut'] | null;
		onclose: () => void;
	};
	type Chosen = { item_id: number; title: string; sku: string };
	let { supplier, terms, onclose }: Props = $props();
	const client = useQueryClient();
	let chosen = $state<Chosen | null>(untrack(() => terms));
	let q = $state('');
	type Row = { from_quantity: string; price: string };
	const form = new FormState(
		() => ({
			code: terms?.code ?? '',
			pack: terms?.pack ?? '1',
			minimum: terms?.minimum ?? '0',
			preferred: terms?.preferred ?? false,
			prices: (terms?.prices ?? [{ from_quantity: '0', price: '' }]) as Row[]
		}),
		() => terms?.version
	);
	const prices = $derived(form.value.prices);
	const put = (at: number, change: Partial<Row>): void =>
		form.set({ prices: prices.map((row, n) => (n === at ? { ...row, ...change } : row)) });
	const resting = new Resting<string>(() => q);
	const sold = $derived(new Set(supplier.terms.map((row) => row.item_id)));
	const items = createQuery(() => ({
		queryKey: ['items to buy', resting.value],
		queryFn: () =>
			ask(
				api.GET('/api/v1/items', {
					params: { query: { q: resting.value, kind: 'stocked', limit: 30 } }
				})
			),
		enabled: chosen === null,
		placeholderData: (before) => before
	}));
	const found = $derived((items.data?.rows ?? []).filter((row) => !sold.has(row.id)).slice(0, 8));
	const path = (): { path: { supplier_id: number; item_id: number } } => ({
		path: { supplier_id: supplier.id, item_id: chosen?.item_id ?? 0 }
	});

	async function act(said: string, work: () => Promise<unknown>): Promise<void> {
		const done = await form.send(() => work().then(() => true));
		if (done) {
			notices.say(said);
			onclose();
		}
		await client.invalidateQueries();
	}

	function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		return act(`${chosen?.sku ?? ''}: saved. Replenishment follows.`, () =>
			ask(
				api.PUT('/api/v1/suppliers/{supplier_id}/items/{item_id}', {
					params: path(),
					body: {
						version: terms ? form.version : 0,
						...form.value,
						pack: form.value.pack || '0',
						minimum: form.value.minimum || '0',
						prices: prices
							.filter((row) => row.price.trim() || row.from_quantity !== '0')
							.map((row) => ({ from_quantity: row.from_quantity || '0', price: row.price }))
					}
				})
			)
		);
	}

	const takeAway = (): Promise<void> =>
		act(`${supplier.name} does not sell ${chosen?.sku ?? ''} any more.`, () =>
			ask(api.DELETE('/api/v1/suppliers/{supplier_id}/items/{item_id}', { params: path() }))
		);
</script>

<Dialogue
	isOpen
	{onclose}
	title={chosen ? `${chosen.title} from ${supplier.name}` : `What else does ${supplier.name} sell?`}
>
	{#if chosen === null}
		<label class="ask"
			>Find an item by its name, number or barcode <input class="field" bind:value={q} /></label
		>
		<ul>
			{#each found as row (row.id)}
				<li>
					<button
						type="button"
						onclick={() => (chosen = { item_id: row.id, title: row.title, sku: row.sku })}
						><span class="name">{row.title} <span class="soft small">{row.sku}</span></span>
						<span class="soft small">{row.supplier ? `from ${row.supplier}` : 'no supplier'}</span
						></button
					>
				</li>
			{/each}
		</ul>
		{#if items.data && !found.length}<p class="soft">No other stocked item is called that.</p>{/if}
	{:else}
		<form onsubmit={save} class="grid gap-3">
			<Field {form} name="code" label="Supplier SKU" max={60} />
			<div class="pair">
				<Field {form} name="pack" label="Pack size" kind="number" />
				<Field {form} name="minimum" label="Minimum quantity" kind="number" />
			</div>
			<fieldset>
				<legend>Unit price, {supplier.currency}</legend>
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
								onclick={() => form.set({ prices: prices.filter((_, n) => n !== at) })}>×</button
							>{/if}
					</div>
				{/each}
				<button
					type="button"
					class="quiet"
					onclick={() => form.set({ prices: [...prices, { from_quantity: '', price: '' }] })}
					>Add a price break</button
				>
			</fieldset>
			<fieldset disabled={terms?.preferred}>
				<Field {form} name="preferred" label="Buy it here first" kind="tick" />
			</fieldset>
			{#if form.refusal}<p class="refusal" role="alert">{form.refusal.message}</p>{/if}
			<div class="foot">
				{#if terms}<button type="button" class="quiet" disabled={form.busy} onclick={takeAway}
						>Remove from this supplier</button
					>{/if}
				<span class="grow"></span>
				<button type="button" class="quiet" onclick={onclose}>Cancel</button>
				<button class="do" disabled={form.busy}>Save</button>
			</div>
		</form>
	{/if}
</Dialogue>

<style>
	.ask > .field {
		width: 100%;
	}
	ul {
		margin-top: 8px;
	}
	li {
		border-bottom: 1px solid var(--rule);
	}
	li button {
		display: flex;
		width: 100%;
		gap: 10px;
		justify-content: space-between;
		align-items: baseline;
		padding: 7px 4px;
		text-align: left;
		cursor: pointer;
	}
	li button:hover {
		background: var(--reed-tint);
	}
	.name {
		overflow-wrap: anywhere;
	}
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
	.foot {
		display: flex;
		gap: 8px;
	}
	.grow {
		flex: 1;
	}
</style>

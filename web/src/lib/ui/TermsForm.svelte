<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { untrack } from 'svelte';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
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
	let code = $state(untrack(() => terms?.code ?? ''));
	let pack = $state(untrack(() => terms?.pack ?? '1'));
	let minimum = $state(untrack(() => terms?.minimum ?? '0'));
	let isPreferred = $state(untrack(() => terms?.preferred ?? false));
	let prices = $state(
		untrack(() => (terms?.prices ?? [{ from_quantity: '0', price: '' }]).map((row) => ({ ...row })))
	);
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
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
	const wrong = (field: string): true | undefined => refusal?.field === field || undefined;
	const path = (): { path: { supplier_id: number; item_id: number } } => ({
		path: { supplier_id: supplier.id, item_id: chosen?.item_id ?? 0 }
	});

	async function act(said: string, work: () => Promise<unknown>): Promise<void> {
		busy = true;
		refusal = null;
		try {
			await work();
			notices.say(said);
			onclose();
		} catch (error) {
			if (error instanceof Problem) refusal = error;
			else notices.fail(error);
		}
		busy = false;
		await client.invalidateQueries();
	}

	function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		return act(`${chosen?.sku ?? ''}: saved. Replenishment follows.`, () =>
			ask(
				api.PUT('/api/v1/suppliers/{supplier_id}/items/{item_id}', {
					params: path(),
					body: {
						version: terms?.version ?? 0,
						code,
						pack: pack || '0',
						minimum: minimum || '0',
						preferred: isPreferred,
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
			<label class="ask"
				>Supplier SKU <input class="field" maxlength="60" bind:value={code} /></label
			>
			<div class="pair">
				<label class="ask"
					>Pack size
					<input
						class="field"
						inputmode="decimal"
						aria-invalid={wrong('pack')}
						bind:value={pack}
					/></label
				>
				<label class="ask"
					>Minimum quantity
					<input
						class="field"
						inputmode="decimal"
						aria-invalid={wrong('minimum')}
						bind:value={minimum}
					/></label
				>
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
								bind:value={row.from_quantity}
							/></label
						>
						<input
							class="field"
							inputmode="decimal"
							aria-label="Price, {at + 1}"
							aria-invalid={wrong('prices')}
							bind:value={row.price}
						/>
						{#if at > 0}<button
								type="button"
								class="quiet"
								aria-label="Remove price {at + 1}"
								onclick={() => (prices = prices.filter((_, n) => n !== at))}>×</button
							>{/if}
					</div>
				{/each}
				<button
					type="button"
					class="quiet"
					onclick={() => (prices = [...prices, { from_quantity: '', price: '' }])}
					>Add a price break</button
				>
			</fieldset>
			<label
				><input type="checkbox" disabled={terms?.preferred} bind:checked={isPreferred} /> Buy it here
				first</label
			>
			{#if refusal}<p class="refusal" role="alert">{refusal.message}</p>{/if}
			<div class="foot">
				{#if terms}<button type="button" class="quiet" disabled={busy} onclick={takeAway}
						>Remove from this supplier</button
					>{/if}
				<span class="grow"></span>
				<button type="button" class="quiet" onclick={onclose}>Cancel</button>
				<button class="do" disabled={busy}>Save</button>
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

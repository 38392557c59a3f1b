<script lang="ts">
	import { untrack } from 'svelte';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Dialogue from './Dialogue.svelte';
	import NewTerms, { type Chosen } from './NewTerms.svelte';
	import PriceBreaks, { type Break } from './PriceBreaks.svelte';

	/** How a supplier sells an item; without terms, one of the range that it does not sell yet is chosen first. */
	type Props = {
		supplier: Schemas['SupplierOut'];
		terms: Schemas['TermsOut'] | null;
		onclose: () => void;
	};
	let { supplier, terms, onclose }: Props = $props();
	let chosen = $state<Chosen | null>(untrack(() => terms));
	const form = new FormState(
		() => ({
			code: terms?.code ?? '',
			pack: terms?.pack ?? '1',
			minimum: terms?.minimum ?? '0',
			preferred: terms?.preferred ?? false,
			prices: (terms?.prices ?? [{ from_quantity: '0', price: '' }]) as Break[]
		}),
		() => terms?.version
	);
	const path = (): { path: { supplier_id: number; item_id: number } } => ({
		path: { supplier_id: supplier.id, item_id: chosen?.item_id ?? 0 }
	});

	async function act(said: string, work: () => Promise<unknown>): Promise<void> {
		const done = await form.send(() => work().then(() => true));
		if (done) {
			notices.say(said);
			onclose();
		}
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
						prices: form.value.prices
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
		<NewTerms {supplier} onpick={(row) => (chosen = row)} />
	{:else}
		<form onsubmit={save} class="grid gap-3">
			<Field {form} name="code" label="Supplier SKU" max={60} />
			<div class="pair">
				<Field {form} name="pack" label="Pack size" kind="number" />
				<Field {form} name="minimum" label="Minimum quantity" kind="number" />
			</div>
			<PriceBreaks {form} currency={supplier.currency} />
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
	.foot {
		display: flex;
		gap: 8px;
	}
	.grow {
		flex: 1;
	}
</style>

<script lang="ts">
	import { goto } from '$app/navigation';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Options, { type Typed } from '#lib/ui/Options.svelte';
	import ProductFacts, { asSent, NOTHING, words, type Facts } from '#lib/ui/ProductFacts.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	type Own = Facts & { kind: string; price: string; decimals: string; expiry_tracked: boolean };
	const START: Own = {
		...NOTHING,
		kind: 'stocked',
		price: '',
		decimals: '0',
		expiry_tracked: false
	};
	const form = new FormState<Own>(() => START).guard();
	let options = $state<Typed[]>([]);
	let pattern = $state('');
	let fresh = $state(0);
	let isWhole = $state(false);
	// Sent again after no answer it is the same request; after a refusal it is another.
	let key = onceKey();
	const may = $derived(session.may('change the range'));
	const kind = $derived(form.value.kind);
	const KINDS = [
		{ value: 'stocked', label: 'stocked: counted on the shelf' },
		{ value: 'bundle', label: 'bundle: made of other items' },
		{ value: 'service', label: 'service: not counted' }
	];

	async function make(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const { kind, price, decimals, expiry_tracked, ...facts } = form.typed;
		const body = {
			...asSent(facts),
			kind: kind ?? 'stocked',
			price: price?.trim().replace(',', '.') || '0',
			decimals: Number(decimals ?? 0),
			expiry_tracked: expiry_tracked ?? false,
			options: options
				.filter((one) => one.name.trim() || one.values.trim())
				.map((one) => ({ name: one.name, values: words(one.values) })),
			pattern
		} as Schemas['MakeProductIn'];
		const made = await form.send(() =>
			ask(api.POST('/api/v1/products', { body, headers: { 'Idempotency-Key': key } }))
		);
		if (form.refusal?.status) key = onceKey();
		if (!made) return;
		notices.say(`${made.title} is made, ${count(made.items.length, 'item')}.`);
		await goto(`/range/products/${made.id}`);
	}
</script>

<Sheet question="What is new in the range?" tabs={RANGE_TABS}>
	{#snippet lead()}A product is described once; its items are what is counted, one for each
		combination of its options.{/snippet}
	<form class="page" onsubmit={make} aria-label="Product">
		<fieldset disabled={!may || form.busy}>
			<section>
				<h2>Product</h2>
				<ProductFacts form={form as unknown as FormState<Facts>} />
			</section>
			<section>
				<h2>Items</h2>
				<div class="row">
					<Field {form} name="kind" label="Kind" kind="choice" choices={KINDS} />
					<Field {form} name="price" label="Price with tax, {session.currency}" kind="number" />
					{#if kind === 'stocked'}
						<Field {form} name="decimals" label="Decimals counted" kind="number" />
						<Field {form} name="expiry_tracked" label="Counted by lot and expiry" kind="tick" />
					{/if}
				</div>
				<Options
					options={kind === 'bundle' ? [] : options}
					{pattern}
					isFixed={kind === 'bundle'}
					wrong={form.refusal?.field}
					onchange={(next, sku) => {
						options = next;
						pattern = sku;
						form.refusal = null;
					}}
					onfound={(n, whole) => {
						fresh = n;
						isWhole = whole;
					}}
				/>
			</section>
		</fieldset>
		{#if may}<SaveLine
				{form}
				save={isWhole && fresh > 1 ? `Make the product with ${fresh} items` : 'Make the product'}
			/>{:else}<p class="soft">Only a manager or a buyer makes products.</p>{/if}
	</form>
</Sheet>

<style>
	.page {
		padding: 16px 20px 28px;
	}
	fieldset {
		display: grid;
		gap: 22px;
	}
	h2 {
		margin-bottom: 8px;
	}
	.row {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(210px, 1fr));
		gap: 10px 16px;
		align-items: end;
		max-width: 980px;
		margin-bottom: 12px;
	}
</style>

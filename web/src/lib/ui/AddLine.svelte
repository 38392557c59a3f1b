<script lang="ts">
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import Field from '#lib/kit/Field.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import ItemSeek from './ItemSeek.svelte';
	import Thumb from './Thumb.svelte';

	/** A line more on a draft: an item that is found, or one made here; what the supplier has not sold yet needs a price. */
	type Props = { order: Schemas['PurchaseOut'] };
	type Line = {
		sought: string;
		quantity: string;
		price: string;
		code: string;
		title: string;
		sku: string;
		retail: string;
	};
	let { order }: Props = $props();
	const NOTHING: Line = {
		sought: '',
		quantity: '',
		price: '',
		code: '',
		title: '',
		sku: '',
		retail: ''
	};
	const form = new FormState<Line>(() => NOTHING);
	let chosen = $state<Schemas['ItemRow'] | null>(null);
	let isNew = $state(false);
	const plain = (text: string): string => text.trim().replace(',', '.');

	function make(): void {
		isNew = true;
		form.set({ title: form.value.sought });
	}

	function drop(): void {
		form.drop();
		chosen = null;
		isNew = false;
	}

	async function add(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const typed = form.value;
		const made = { title: typed.title, sku: typed.sku, retail: plain(typed.retail) || '0' };
		const body = {
			version: order.version,
			quantity: plain(typed.quantity),
			price: plain(typed.price) || null,
			code: typed.code,
			...(isNew ? made : { item_id: chosen?.id ?? null })
		} as Schemas['NewLineIn'];
		const done = await form.send(() =>
			ask(
				api.POST('/api/v1/purchase-orders/{order_id}/lines', {
					params: { path: { order_id: order.id } },
					body
				})
			)
		);
		if (!done) return;
		drop();
		notices.say('The line is added.');
	}
</script>

<form onsubmit={add} aria-label="Add a line">
	{#if chosen}
		<p class="picked">
			<Thumb picture={chosen.picture} />{chosen.title} <span class="soft small">{chosen.sku}</span>
		</p>
	{:else if isNew}
		<Field {form} name="title" label="Title of the new item" />
		<Field {form} name="sku" label="SKU" />
		<Field {form} name="retail" label="Retail price {session.currency}" kind="number" />
	{:else}
		<ItemSeek
			label="Add a line"
			bind:sought={() => form.value.sought, (sought) => form.set({ sought })}
			without={order.lines.map((line) => line.item_id)}
			onpick={(row) => (chosen = row)}
		>
			{#snippet more(words)}{#if session.may('change the range')}<li>
						<button type="button" class="quiet" onclick={make}>A new item “{words}”</button>
					</li>{/if}{/snippet}
		</ItemSeek>
	{/if}
	{#if chosen || isNew}
		<Field {form} name="quantity" label="Quantity" kind="number" />
		<Field
			{form}
			name="price"
			label="Price {order.currency}, empty: the supplier’s"
			kind="number"
		/>
		<Field {form} name="code" label="Supplier SKU" />
		<button class="do" disabled={form.busy || !form.value.quantity.trim()}>Add the line</button>
		<button type="button" class="quiet" onclick={drop}>Undo</button>
	{/if}
	<span class="bad" role="alert">{form.refusal?.message ?? ''}</span>
</form>

<style>
	form {
		display: flex;
		flex-wrap: wrap;
		gap: 8px 14px;
		align-items: end;
		padding: 14px 20px;
	}
	.picked {
		padding-bottom: 5px;
		font-weight: 600;
	}
	.bad {
		color: var(--madder);
	}
</style>

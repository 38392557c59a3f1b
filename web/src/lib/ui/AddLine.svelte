<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import Field from '#lib/kit/Field.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
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
	const client = useQueryClient();
	const form = new FormState<Line>(() => NOTHING);
	let chosen = $state<Schemas['ItemRow'] | null>(null);
	let isNew = $state(false);
	const sought = $derived(form.value.sought.trim());
	const found = createQuery(() => ({
		queryKey: ['items', 'line', sought],
		queryFn: () =>
			ask(
				api.GET('/api/v1/items', { params: { query: { q: sought, kind: 'stocked', limit: 8 } } })
			),
		enabled: sought.length > 1 && !chosen,
		placeholderData: (before) => before
	}));
	const offered = $derived(
		sought.length > 1 && !chosen && !isNew
			? (found.data?.rows ?? []).filter(
					(row) => !order.lines.some((line) => line.item_id === row.id)
				)
			: []
	);
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
		await client.invalidateQueries();
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
		<label class="ask seek"
			>Add a line
			<input
				class="field"
				placeholder="SKU, title or barcode"
				value={form.value.sought}
				oninput={(event) => form.set({ sought: event.currentTarget.value })}
			/></label
		>
		{#if sought.length > 1}<ul aria-label="Items found">
				{#each offered as row (row.id)}<li>
						<button type="button" class="quiet" onclick={() => (chosen = row)}
							><Thumb picture={row.picture} />{row.title}
							<span class="soft small">{row.sku}</span></button
						>
					</li>{/each}
				{#if session.may('change the range')}<li>
						<button type="button" class="quiet" onclick={make}>A new item “{sought}”</button>
					</li>{/if}
			</ul>{/if}
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
	.seek {
		width: 300px;
	}
	.picked {
		padding-bottom: 5px;
		font-weight: 600;
	}
	ul {
		display: flex;
		flex-wrap: wrap;
		gap: 6px;
		width: 100%;
	}
	.bad {
		color: var(--madder);
	}
</style>

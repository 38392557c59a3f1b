<script lang="ts" module>
	/** The item that terms are made for. */
	export type Chosen = { item_id: number; title: string; sku: string };
</script>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { Resting } from '#lib/resting.svelte.ts';

	/** Finds an item that a supplier does not sell yet. */
	type Props = { supplier: Schemas['SupplierOut']; onpick: (item: Chosen) => void };
	let { supplier, onpick }: Props = $props();
	let q = $state('');
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
		placeholderData: (before) => before
	}));
	const found = $derived((items.data?.rows ?? []).filter((row) => !sold.has(row.id)).slice(0, 8));
</script>

<label class="ask"
	>Find an item by its name, number or barcode <input class="field" bind:value={q} /></label
>
<ul>
	{#each found as row (row.id)}
		<li>
			<button
				type="button"
				onclick={() => onpick({ item_id: row.id, title: row.title, sku: row.sku })}
				><span class="name">{row.title} <span class="soft small">{row.sku}</span></span>
				<span class="soft small">{row.supplier ? `from ${row.supplier}` : 'no supplier'}</span
				></button
			>
		</li>
	{/each}
</ul>
{#if items.data && !found.length}<p class="soft">No other stocked item is called that.</p>{/if}

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
</style>

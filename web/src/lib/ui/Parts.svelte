<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';

	/** What a bundle is made of: items, or other bundles, and how many of each. */
	type Props = { item: Schemas['ProductItem']; may: boolean };
	type Part = { item_id: number; sku: string; title: string; quantity: string };
	let { item, may }: Props = $props();
	const client = useQueryClient();
	const form = new FormState<{ parts: Part[] }>(
		() => ({ parts: item.components }),
		() => item.version
	).guard();
	let sought = $state('');
	const found = createQuery(() => ({
		queryKey: ['items', 'parts', sought],
		queryFn: () => ask(api.GET('/api/v1/items', { params: { query: { q: sought, limit: 8 } } })),
		enabled: sought.trim().length > 1,
		placeholderData: (before) => before
	}));
	const offered = $derived(
		sought.trim().length > 1
			? (found.data?.rows ?? []).filter(
					(row) =>
						row.kind !== 'service' &&
						row.id !== item.id &&
						!form.value.parts.some((part) => part.item_id === row.id)
				)
			: []
	);
	const put = (parts: Part[]): void => form.set({ parts });

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const done = await form.send(() =>
			ask(
				api.PUT('/api/v1/items/{item_id}/parts', {
					params: { path: { item_id: item.id } },
					body: {
						version: form.version,
						parts: form.value.parts.map(({ item_id, quantity }) => ({
							item_id,
							quantity: quantity.trim().replace(',', '.')
						}))
					}
				})
			)
		);
		if (done) notices.say(done.said);
		await client.invalidateQueries({ queryKey: ['product'] });
	}
</script>

<form onsubmit={save} aria-label="Parts of {item.sku}">
	<table class="rows parts">
		<thead><tr><th>Part</th><th class="num">Quantity in one</th><th></th></tr></thead>
		<tbody>
			{#each form.value.parts as part, n (part.item_id)}
				<tr data-row
					><td
						><a class="plain-link" href="/range/items/{part.item_id}">{part.title}</a>
						<span class="soft small">{part.sku}</span></td
					><td class="num"
						><input
							class="field num"
							inputmode="decimal"
							aria-label="Quantity of {part.sku}"
							disabled={!may}
							value={part.quantity}
							oninput={(event) =>
								put(
									form.value.parts.map((one, at) =>
										at === n ? { ...one, quantity: event.currentTarget.value } : one
									)
								)}
						/></td
					><td
						>{#if may}<button
								type="button"
								class="quiet"
								onclick={() => put(form.value.parts.filter((_, at) => at !== n))}>Remove</button
							>{/if}</td
					></tr
				>
			{:else}<tr><td colspan="3" class="soft">No parts yet: look for one below.</td></tr>{/each}
		</tbody>
	</table>
	{#if may}
		<label class="ask seek"
			>Add a part
			<input class="field" placeholder="SKU, title or barcode" bind:value={sought} /></label
		>
		{#if offered.length}<ul aria-label="Items found">
				{#each offered as row (row.id)}<li>
						<button
							type="button"
							class="quiet"
							onclick={() => {
								put([
									...form.value.parts,
									{ item_id: row.id, sku: row.sku, title: row.title, quantity: '1' }
								]);
								sought = '';
							}}>{row.title} <span class="soft small">{row.sku}</span></button
						>
					</li>{/each}
			</ul>{/if}
		<SaveLine {form} save="Save parts" />
	{/if}
</form>

<style>
	.parts {
		width: auto;
		min-width: 520px;
	}
	.parts .field {
		width: 90px;
		text-align: right;
	}
	form > :global(:not(table)) {
		margin-inline: 20px;
	}
	.seek {
		max-width: 330px;
		margin-top: 12px;
	}
	ul {
		display: flex;
		flex-wrap: wrap;
		gap: 6px;
		margin-top: 8px;
	}
</style>

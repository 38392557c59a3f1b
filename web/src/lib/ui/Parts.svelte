<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';

	/** What a bundle is made of: items, or other bundles, and how many of each; and whether it costs what they do. */
	type Props = { item: Schemas['ProductItem']; may: boolean };
	type Part = { item_id: number; sku: string; title: string; quantity: string };
	let { item, may }: Props = $props();
	const form = new FormState<{ parts: Part[]; percent_off: string | null }>(
		() => ({ parts: item.components, percent_off: item.percent_off_parts }),
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
						percent_off: form.value.percent_off?.trim().replace(',', '.') ?? null,
						parts: form.value.parts.map(({ item_id, quantity }) => ({
							item_id,
							quantity: quantity.trim().replace(',', '.')
						}))
					}
				})
			)
		);
		if (done) notices.say(done.said);
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
		<fieldset class="price">
			<legend>Base price</legend>
			<label
				><input
					type="radio"
					name="price-{item.id}"
					checked={form.value.percent_off === null}
					onchange={() => form.set({ percent_off: null })}
				/> a price of its own</label
			>
			<label
				><input
					type="radio"
					name="price-{item.id}"
					checked={form.value.percent_off !== null}
					onchange={() => form.set({ percent_off: '0' })}
				/> what its parts cost</label
			>
			{#if form.value.percent_off !== null}<label class="less"
					>less <input
						class="field num"
						inputmode="decimal"
						aria-label="Per cent less than its parts"
						aria-invalid={form.wrong('percent_off')}
						value={form.value.percent_off}
						oninput={(event) => form.set({ percent_off: event.currentTarget.value })}
					/> %</label
				>
				{#if item.percent_off_parts !== null && !form.isEdited}<span class="soft"
						>now <a class="figure" href="/range/items/{item.id}">{item.price} {session.currency}</a
						></span
					>{/if}{/if}
		</fieldset>
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
	.price {
		display: flex;
		gap: 18px;
		align-items: center;
		margin-top: 14px;
		min-height: 34px;
	}
	.price legend {
		float: left;
		padding: 0;
		color: var(--ink-soft);
	}
	.price label {
		display: inline-flex;
		gap: 6px;
		align-items: center;
	}
	.less .field {
		width: 64px;
		text-align: right;
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

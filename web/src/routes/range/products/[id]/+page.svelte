<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, moment } from '#lib/format.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import ItemGrid from '#lib/ui/ItemGrid.svelte';
	import Options, { type Typed } from '#lib/ui/Options.svelte';
	import Overtaken from '#lib/ui/Overtaken.svelte';
	import Parts from '#lib/ui/Parts.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Pictures from '#lib/ui/Pictures.svelte';
	import ProductFacts, { asSent, NOTHING, words, type Facts } from '#lib/ui/ProductFacts.svelte';
	import ProductTexts from '#lib/ui/ProductTexts.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.id));
	const path = $derived({ product_id: id });
	const product = createQuery(() => ({
		queryKey: ['product', id],
		queryFn: () => ask(api.GET('/api/v1/products/{product_id}', { params: { path } }))
	}));
	const data = $derived(product.data);
	const may = $derived(session.may('change the range'));
	const form = new FormState<Facts>(
		() =>
			data
				? {
						...data,
						tags: data.tags.join(', '),
						tax_class_id: `${data.tax_class_id ?? ''}`,
						shelf_life_days: data.shelf_life_days ? `${data.shelf_life_days}` : ''
					}
				: NOTHING,
		() => data?.version
	).guard();
	let options = $state<Typed[] | null>(null);
	let pattern = $state('');
	let twin = $state(false);
	let twinForm = new FormState<{ title: string; pattern: string }>(() => ({
		title: `${data?.title ?? ''} copy`,
		pattern: ''
	}));
	/** The options as they are, with the values that items have. */
	const standing = $derived<Typed[]>(
		(data?.option_names ?? []).map((name) => ({
			name,
			values: [
				...new Set(data?.items.map((item) => item.options[name] ?? '').filter(Boolean))
			].join(', ')
		}))
	);

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const body = { ...asSent(form.typed), version: form.version } as Schemas['ChangeProductIn'];
		const done = await form.send(() =>
			ask(api.PATCH('/api/v1/products/{product_id}', { params: { path }, body }))
		);
		if (done) notices.say('Saved.');
	}

	async function more(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		try {
			const before = data?.items.length ?? 0;
			const done = await ask(
				api.POST('/api/v1/products/{product_id}/items', {
					params: { path },
					body: {
						version: data?.version ?? 0,
						options: (options ?? standing).map((one) => ({
							name: one.name,
							values: words(one.values)
						})),
						pattern,
						price: data?.items[0]?.price ?? '0'
					}
				})
			);
			notices.say(`${count(done.items.length - before, 'item')} added.`);
			options = null;
			pattern = '';
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}

	async function duplicate(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const done = await twinForm.send(() =>
			ask(
				api.POST('/api/v1/products/{product_id}/duplicate', {
					params: { path },
					body: twinForm.value
				})
			)
		);
		if (!done) return;
		twin = false;
		notices.say(`${done.title} is made, ${count(done.items.length, 'item')}.`);
		await goto(`/range/products/${done.id}`);
	}

	const said = (row: Schemas['TraceOut']): string =>
		Object.keys(row.after)
			.map((name) =>
				name in row.before
					? `${name}: ${row.before[name] || 'empty'} → ${row.after[name] || 'empty'}`
					: `${name}: ${row.after[name]}`
			)
			.join('; ');
</script>

<Sheet question={data?.title ?? 'Product'} tabs={RANGE_TABS}>
	{#snippet lead()}{#if data}{count(data.items.length, 'item')}{data.option_names.length
				? ` by ${data.option_names.join(' and ').toLowerCase()}`
				: ''}{data.category ? `, in ${data.category}` : ''}.{/if}{/snippet}
	{#snippet filters()}{#if data && may}
			<button class="quiet" onclick={() => (twin = true)}>Duplicate</button>{/if}{/snippet}
	{#if data}
		<div class="page">
			<form onsubmit={save} aria-label="Product">
				{#if form.isOvertaken}<Overtaken
						onkeep={() => form.typing.keep()}
						ontake={() => form.drop()}
					/>{/if}
				<fieldset disabled={!may || form.busy}><ProductFacts {form} isFixed={!may} /></fieldset>
				{#if may}<SaveLine {form} save="Save product" />{/if}
			</form>
			<section aria-label="Pictures">
				<h2>Pictures</h2>
				<Pictures product={data} {may} />
			</section>
			<section>
				<h2>Items</h2>
				<ItemGrid items={data.items} {may} options={data.option_names} />
			</section>
			{#each data.items.filter((item) => item.kind === 'bundle') as item (item.id)}
				<section>
					<h2>What {item.title} is made of</h2>
					<Parts {item} {may} />
				</section>
			{/each}
			{#if may && data.option_names.length}
				<section>
					<h2>More items</h2>
					<p class="soft">
						Add values; only the combinations that are missing are made, the others stay as they
						are.
					</p>
					<form onsubmit={more} aria-label="More items">
						<Options
							options={options ?? standing}
							{pattern}
							product={id}
							isFixed
							onchange={(next, sku) => {
								options = next;
								pattern = sku;
							}}
						/>
						<p class="act">
							<button class="do" disabled={!pattern.trim()}>Add the missing items</button>
						</p>
					</form>
				</section>
			{/if}
			<section>
				<h2>In other languages</h2>
				<ProductTexts product={data} {may} />
			</section>
			<section>
				<h2>Who changed what</h2>
				<table class="rows">
					<thead><tr><th>When</th><th>Who</th><th>What</th><th>From → to</th></tr></thead>
					<tbody>
						{#each data.history as row (row.id)}
							<tr data-row
								><td class="soft place">{moment(row.at)}</td><td class="place">{row.actor}</td><td
									class="place">{row.action}</td
								><td class="long soft">{said(row)}</td></tr
							>
						{:else}<tr><td colspan="4" class="soft">Nothing was changed by hand yet.</td></tr
							>{/each}
					</tbody>
				</table>
			</section>
		</div>
	{:else}<Pending query={product} />{/if}
</Sheet>
<Dialogue isOpen={twin} title="A product like this one" onclose={() => (twin = false)}>
	{#if twin}<form onsubmit={duplicate} class="twin" aria-label="Duplicate">
			<label class="ask"
				>Title
				<input
					class="field"
					maxlength="160"
					aria-invalid={twinForm.wrong('title')}
					value={twinForm.value.title}
					oninput={(event) => twinForm.set({ title: event.currentTarget.value })}
				/></label
			>
			<label class="ask"
				>SKU{data?.option_names.length ? ' pattern' : ''}
				<input
					class="field"
					maxlength="60"
					placeholder={data?.option_names.map((name) => `{${name.toLowerCase()}}`).join('-') ?? ''}
					aria-invalid={twinForm.wrong('pattern')}
					value={twinForm.value.pattern}
					oninput={(event) => twinForm.set({ pattern: event.currentTarget.value })}
				/></label
			>
			<p class="soft small">Options and prices come along; stock, barcodes and listings do not.</p>
			<SaveLine form={twinForm} save="Make it" />
		</form>{/if}
</Dialogue>

<style>
	.page {
		display: grid;
		gap: 26px;
		padding: 16px 0 30px;
	}
	.page > form,
	.page h2,
	.page p,
	.page section > form[aria-label='More items'] {
		margin-inline: 20px;
	}
	h2 {
		margin-bottom: 6px;
	}
	.page .act {
		margin: 12px 0 0;
	}
	.twin {
		display: grid;
		gap: 10px;
	}
</style>

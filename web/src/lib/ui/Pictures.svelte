<script lang="ts">
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';

	/** A product's pictures: added, described, put in order, taken away; the first stands for the product. */
	type Props = { product: Schemas['ProductOut']; may: boolean };
	let { product, may }: Props = $props();
	let busy = $state(false);
	const pictures = $derived(product.pictures);
	const path = $derived({ product_id: product.id });

	async function act(work: () => Promise<string>): Promise<void> {
		busy = true;
		try {
			notices.say(await work());
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}

	const send = (files: FileList | null): Promise<void> =>
		act(async () => {
			const chosen = [...(files ?? [])];
			for (const file of chosen) {
				const body = new FormData();
				body.append('file', file);
				await ask(
					api.POST('/api/v1/products/{product_id}/pictures', {
						params: { path },
						body: body as never,
						bodySerializer: (given: unknown) => given as FormData
					})
				);
			}
			return `${count(chosen.length, 'picture')} added.`;
		});
	const describe = (id: number, body: Partial<Schemas['PictureIn']>): Promise<void> =>
		act(async () => {
			await ask(
				api.PATCH('/api/v1/pictures/{picture_id}', {
					params: { path: { picture_id: id } },
					body: body as Schemas['PictureIn']
				})
			);
			return 'Saved.';
		});
	const move = (at: number, by: number): Promise<void> =>
		act(async () => {
			const ids = pictures.map((one) => one.id);
			const [moved] = ids.splice(at, 1);
			ids.splice(at + by, 0, moved ?? 0);
			await ask(
				api.PUT('/api/v1/products/{product_id}/pictures', { params: { path }, body: { ids } })
			);
			return 'Saved.';
		});
	const remove = (id: number): Promise<void> =>
		act(async () => {
			await ask(
				api.DELETE('/api/v1/pictures/{picture_id}', { params: { path: { picture_id: id } } })
			);
			return 'Taken away.';
		});
</script>

<ul>
	{#each pictures as one, at (one.id)}
		<li>
			<a href="/api/v1/pictures/{one.id}/full" target="_blank" rel="noreferrer"
				><img src="/api/v1/pictures/{one.id}/thumb" alt={one.alt} width="120" height="120" /></a
			>
			{#if may}
				<div class="facts">
					<label class="ask"
						>What it shows
						<input
							class="field"
							maxlength="200"
							disabled={busy}
							value={one.alt}
							onchange={(event) => describe(one.id, { alt: event.currentTarget.value })}
						/></label
					>
					<label class="ask"
						>Of
						<select
							class="field"
							disabled={busy}
							value={`${one.item_id ?? ''}`}
							onchange={(event) =>
								describe(one.id, { item_id: Number(event.currentTarget.value) || null })}
						>
							<option value="">all its items</option>
							{#each product.items as item (item.id)}<option value={`${item.id}`}
									>{item.title}</option
								>{/each}
						</select></label
					>
					<p>
						<button
							type="button"
							class="quiet small"
							disabled={busy || at === 0}
							aria-label="Earlier: {one.alt}"
							onclick={() => move(at, -1)}>← earlier</button
						>
						<button
							type="button"
							class="quiet small"
							disabled={busy || at === pictures.length - 1}
							aria-label="Later: {one.alt}"
							onclick={() => move(at, 1)}>later →</button
						>
						<button
							type="button"
							class="quiet small"
							disabled={busy}
							aria-label="Take away: {one.alt}"
							onclick={() => remove(one.id)}>Take away</button
						>
					</p>
				</div>
			{/if}
		</li>
	{:else}<li class="soft">No picture yet.</li>{/each}
</ul>
{#if may}<label class="ask add"
		>Add pictures: PNG, JPEG, WebP or GIF of at most 8 MB
		<input
			class="field"
			type="file"
			accept="image/png,image/jpeg,image/webp,image/gif"
			multiple
			disabled={busy}
			onchange={async (event) => {
				const chosen = event.currentTarget;
				await send(chosen.files);
				chosen.value = '';
			}}
		/></label
	>{/if}

<style>
	ul {
		display: flex;
		flex-wrap: wrap;
		gap: 18px 26px;
		margin: 0 20px 12px;
	}
	li {
		display: flex;
		gap: 14px;
		align-items: start;
	}
	img {
		width: 120px;
		height: 120px;
		object-fit: contain;
		background: var(--sheet);
		border: 1px solid var(--rule);
		border-radius: 3px;
	}
	.facts {
		display: grid;
		gap: 6px;
		width: 270px;
	}
	.add {
		max-width: 420px;
		margin: 0 20px;
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Filter from './Filter.svelte';
	import Thumb from './Thumb.svelte';

	/** Items that a channel does not list yet, to be prepared for it. */
	type Props = { id: number; may: boolean };
	let { id, may }: Props = $props();
	const params = $derived({ path: { connection_id: id } });
	let q = $state('');
	let chosen = $state<number[]>([]);
	let busy = $state(false);
	const found = createQuery(() => ({
		queryKey: ['candidates', id, q],
		queryFn: () =>
			ask(
				api.GET('/api/v1/connections/{connection_id}/candidates', {
					params: { ...params, query: { q, limit: 12 } }
				})
			),
		placeholderData: (before) => before
	}));
	const total = $derived(found.data?.total ?? 0);
	async function prepare(every: boolean): Promise<void> {
		busy = true;
		try {
			const body = every ? { items: [], every, q } : { items: chosen, every, q: '' };
			notices.say(
				(await ask(api.POST('/api/v1/connections/{connection_id}/publications', { params, body })))
					.said
			);
			chosen = [];
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
	const pick = (item: number): void => {
		chosen = chosen.includes(item) ? chosen.filter((one) => one !== item) : [...chosen, item];
	};
</script>

<section aria-label="Not listed there">
	<h2>Not listed there</h2>
	<div class="bar">
		<Filter bind:value={q} label="Filter items" />
		<span class="soft">{count(total, 'item')}</span>
		{#if may}
			<button class="quiet" disabled={busy || !chosen.length} onclick={() => prepare(false)}
				>Prepare {chosen.length || 'those'} chosen</button
			>
			<button class="quiet" disabled={busy || !total} onclick={() => prepare(true)}
				>Prepare all {total} found</button
			>
		{/if}
	</div>
	<div class="grid">
		{#each found.data?.rows ?? [] as row (row.id)}
			<label class="one"
				>{#if may}<input
						type="checkbox"
						checked={chosen.includes(row.id)}
						onchange={() => pick(row.id)}
					/>{/if}
				<Thumb picture={row.picture} />
				<span class="long"
					>{row.title}
					<span class="soft small block">{row.sku}{row.category ? ` · ${row.category}` : ''}</span
					></span
				></label
			>
		{:else}<p class="soft">
				{q
					? 'No such item, or it is listed there already.'
					: 'Every item that is sold is listed there or prepared.'}
			</p>{/each}
	</div>
	{#if total > (found.data?.rows.length ?? 0)}<p class="soft small more">
			and {total - (found.data?.rows.length ?? 0)} more; filter to see them
		</p>{/if}
</section>

<style>
	h2 {
		padding: 22px 20px 4px;
	}
	.bar {
		display: flex;
		gap: 12px;
		align-items: center;
		flex-wrap: wrap;
		padding: 4px 20px 8px;
	}
	.grid {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(280px, 1fr));
		gap: 2px 18px;
		padding: 0 20px;
	}
	.one {
		display: flex;
		gap: 10px;
		align-items: center;
		min-height: 44px;
		border-bottom: 1px solid var(--rule);
	}
	.more {
		padding: 6px 20px 0;
	}
</style>

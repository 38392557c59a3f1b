<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Differences from '#lib/ui/Differences.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';

	let q = $state('');
	let channel = $state(Number(page.url.searchParams.get('connection') ?? 0));
	let chosen = $state<number[]>([]);
	let busy = $state(false);
	const channels = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const sheet = createQuery(() => ({
		queryKey: ['differences', channel, q],
		queryFn: () =>
			ask(
				api.GET('/api/v1/differences', {
					params: { query: { q, limit: 100, ...(channel ? { connection: channel } : {}) } }
				})
			),
		placeholderData: (before) => before
	}));
	const rows = $derived(sheet.data?.rows ?? []);
	const may = $derived(session.may('change the range'));
	const picked = $derived(chosen.filter((id) => rows.some((row) => row.id === id)));
	const pick = (id: number): void => {
		chosen = chosen.includes(id) ? chosen.filter((one) => one !== id) : [...chosen, id];
	};

	async function choose(theirs: boolean): Promise<void> {
		busy = true;
		try {
			const done = await ask(
				api.POST('/api/v1/differences/choose', { body: { ids: picked, theirs } })
			);
			notices.say(done.said);
			chosen = [];
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
</script>

<Sheet question="Where do channels say otherwise?" tabs={RANGE_TABS}>
	{#snippet lead()}
		What a listing says of an item and we do not. Nothing edited here is written over by itself;
		what may be is a rule of each connection.
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="Channel" bind:value={channel}>
			<option value={0}>every channel</option>
			{#each (channels.data ?? []).filter((one) => one.listings) as one (one.id)}<option
					value={one.id}>{one.name}</option
				>{/each}
		</select>
		{#if may && rows.length}
			<button
				class="quiet"
				onclick={() => (chosen = picked.length === rows.length ? [] : rows.map((row) => row.id))}
				>{picked.length === rows.length ? 'Choose none' : 'Choose all'}</button
			>
			{#if picked.length}
				<button class="do" disabled={busy} onclick={() => choose(true)}
					>Take over all of {count(picked.length, 'listing', 'listings')}</button
				>
				<button class="quiet" disabled={busy} onclick={() => choose(false)}>Keep ours</button>
			{/if}
		{/if}
	{/snippet}
	{#if sheet.data}
		<ul>
			{#each rows as row (row.id)}
				{#if row.fault}<li class="bad">{row.title}: {row.fault} A snag says so too.</li>{:else}
					<li>
						<div class="head">
							{#if may}<input
									type="checkbox"
									aria-label="Choose {row.title}"
									checked={chosen.includes(row.id)}
									onchange={() => pick(row.id)}
								/>{/if}
							<Thumb picture={row.picture} />
							<span
								><a href="/range/items/{row.item_id}">{row.item}</a>
								<span class="soft small block"
									>{row.sku} · <a href="/range/listings/{row.id}">{row.connection}</a></span
								></span
							>
						</div>
						{#if row.differences.length}<Differences
								listing={row.id}
								version={row.version}
								rows={row.differences}
								{may}
								label="What {row.connection} says of {row.item}"
							/>{:else}<p class="soft">Both say the same by now.</p>{/if}
					</li>
				{/if}
			{:else}<li class="soft">
					No channel says anything else than we do, as its listings were last read.
				</li>{/each}
		</ul>
		{#if sheet.data.next}<p class="more">
				The first {rows.length} of {sheet.data.total}; settle these, or filter.
			</p>{/if}
	{:else}<Pending query={sheet} />{/if}
</Sheet>

<style>
	ul {
		list-style: none;
		padding: 4px 20px 20px;
		display: grid;
		gap: 22px;
		max-width: 1120px;
	}
	.head {
		display: flex;
		gap: 10px;
		align-items: center;
		padding: 8px 0 4px;
	}
	li :global(.rows th:first-child),
	li :global(.rows td:first-child) {
		padding-left: 0;
	}
	.bad {
		color: var(--madder);
	}
	li.soft {
		padding: 16px 0;
	}
	.more {
		padding: 0 20px 20px;
		color: var(--ink-soft);
	}
</style>

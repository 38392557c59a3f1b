<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { day, moment } from '#lib/format.ts';
	import { TABS } from '#lib/tabs.ts';
	import Facts from '#lib/ui/Facts.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Moved from '#lib/ui/Moved.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Posted from '#lib/ui/Posted.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import TimeLine from '#lib/ui/TimeLine.svelte';

	const path = $derived({ kind: page.params.kind ?? '', document_id: Number(page.params.id) });
	const found = createQuery(() => ({
		queryKey: ['document', path],
		queryFn: () => ask(api.GET('/api/v1/documents/{kind}/{document_id}', { params: { path } }))
	}));
	const data = $derived(found.data);
	const here = $derived(page.url.pathname);
</script>

<Sheet
	question={data ? `${data.name} ${data.number}` : 'Document'}
	tabs={TABS[page.params.station ?? ''] ?? []}
>
	{#snippet lead()}
		{#if data}
			{data.at.includes('T') ? moment(data.at) : day(data.at)}
			{#if data.within}· belongs to <a href={data.within_link}>{data.within}</a>{/if}
			{#if data.link !== here}· <a href={data.link}>its own page</a>{/if}
		{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			{#if data.state}<Mark state={data.state} />{/if}
			{#each data.forms as form (form.name)}<a
					class="quiet"
					href={form.path}
					target="_blank"
					rel="noreferrer">{form.name} PDF</a
				>{/each}
		{/if}
	{/snippet}
	{#if data}
		{#if data.facts.length}
			<Facts>
				{#each data.facts as fact (fact.label)}<div>
						<dt>{fact.label}</dt>
						<dd>{fact.value}</dd>
					</div>{/each}
			</Facts>
		{/if}
		{#if data.moves.length}
			<h2>What it moved</h2>
			<Moved moves={data.moves} />
			{#if data.moved > data.moves.length}<p class="soft none">
					The first {data.moves.length} of {data.moved} moves.
				</p>{/if}
		{/if}
		{#if data.entries.length}
			<h2>What it posted</h2>
			<Posted entries={data.entries} />
		{/if}
		{#if !data.moves.length && !data.entries.length}
			<p class="soft none">It moved nothing and posted nothing.</p>
		{/if}
		{#if data.history.length}
			<h2>What happened</h2>
			<TimeLine history={data.history} />
		{/if}
	{:else}<Pending query={found} />{/if}
</Sheet>

<style>
	h2 {
		padding: 14px 20px 4px;
	}
	.none {
		padding: 14px 20px;
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { ago, count, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const connections = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const rows = $derived(connections.data ?? []);
</script>

<Sheet question="What are we tied to?" tabs={CONNECTION_TABS} newPath="/connections/new">
	{#snippet lead()}Shops, tills, the ledger and suppliers’ inboxes. Nothing moves before a
		connection is live.{/snippet}
	{#snippet filters()}
		{#if session.may('connect channels')}<a class="do" href="/connections/new">Add a connection</a
			>{/if}
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Connection</th><th>Kind</th><th>State</th><th class="num">Listings</th><th
						class="num">Not paired</th
					><th class="num">Pending</th><th class="num">Drifting</th><th class="num">Snags</th><th
						>Last exchange</th
					></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td class="long"><a class="plain-link" href="/connections/{row.id}">{row.name}</a></td>
						{#if row.fault}<Faulty said={row.fault} span={8} />{:else}
							<td class="soft">{row.label}</td>
							<td><Mark state={row.state} /></td>
							<td class="num">{row.listings || '·'}</td>
							<td class="num" class:look={row.unlinked}>{row.unlinked || '·'}</td>
							<td class="num" class:look={row.pending}>{row.pending || '·'}</td>
							<td class="num" class:bad={row.drifting}>{row.drifting || '·'}</td>
							<td class="num" class:bad={row.snags}>{row.snags || '·'}</td>
							<td class="soft" title={moment(row.last_exchange_at)}
								>{row.kind === 'ledger' ? 'as things are posted' : ago(row.last_exchange_at)}</td
							>
						{/if}
					</tr>
				{/each}
			</tbody>
		</table>
	{:else}
		<Pending
			query={connections}
			isEmpty
			empty="Nothing is connected yet. Begin with the shop: its listings become your range."
			first={session.may('connect channels')
				? { text: 'Add a connection', path: '/connections/new' }
				: undefined}
		/>
	{/if}
	{#snippet totals()}<span
			>{count(rows.length, 'connection')}, {rows.filter((r) => r.state === 'live').length} live</span
		>{/snippet}
</Sheet>

<style>
	.look {
		color: var(--ochre);
		font-weight: 600;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
	a.do {
		text-decoration: none;
	}
</style>

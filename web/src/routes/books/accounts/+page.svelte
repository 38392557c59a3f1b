<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BOOKS_TABS } from '#lib/tabs.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const accounts = createQuery(() => ({
		queryKey: ['accounts'],
		queryFn: () => ask(api.GET('/api/v1/accounts')),
		refetchInterval: 8000
	}));
	const rows = $derived(accounts.data?.rows ?? []);
</script>

<Sheet question="Where do the accounts stand?" tabs={BOOKS_TABS}>
	{#snippet lead()}Debits are positive, credits negative. Together they come to nothing, always.{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Code</th><th>Account</th><th class="num">This month {session.currency}</th><th
						class="num">Balance {session.currency}</th
					></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.code)}
					<tr data-row>
						<td class="soft">{row.code}</td>
						<td>{row.name}</td>
						{#if row.fault}<Faulty said={row.fault} span={2} />{:else}
							<td class="num">{figure(row.month)}</td>
							<td class="num"><Fig value={row.balance} kind="account" id={row.code} /></td>
						{/if}
					</tr>
				{/each}
			</tbody>
		</table>
	{:else}<Pending query={accounts} isEmpty empty="No account yet." />{/if}
	{#snippet totals()}<span class="ml-auto"
			>All accounts <b class="double">{figure(accounts.data?.total)}</b>
			{session.currency}</span
		>{/snippet}
</Sheet>

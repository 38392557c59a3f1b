<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BOOKS_TABS } from '#lib/tabs.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rates from '#lib/ui/Rates.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';

	const form = new FormState(() => ({ code: '', name: '' })).guard();
	let isOpening = $state(false);
	async function open(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const done = await form.send(() => ask(api.POST('/api/v1/accounts', { body: form.value })));
		if (done) {
			notices.say(done.said);
			isOpening = false;
		}
	}
	const accounts = createQuery(() => ({
		queryKey: ['accounts'],
		queryFn: () => ask(api.GET('/api/v1/accounts'))
	}));
	const rows = $derived(accounts.data?.rows ?? []);
</script>

<Sheet question="Where do the accounts stand?" tabs={BOOKS_TABS}>
	{#snippet lead()}Debits are positive, credits negative. Together they come to nothing, always.{/snippet}
	{#snippet filters()}
		{#if session.may('keep the books') && !isOpening}<button
				class="quiet"
				onclick={() => (isOpening = true)}>Open a clearing account</button
			>{/if}
	{/snippet}
	{#if isOpening}
		<form class="open" onsubmit={open} aria-label="Clearing account">
			<p class="soft">
				For what one way of paying brings in: cash, a card terminal, a payment service. A
				connection’s rules say which payments settle through it.
			</p>
			<div class="line">
				<Field {form} name="code" label="Code" max={10} />
				<Field {form} name="name" label="Name" max={60} />
				<SaveLine {form} save="Open it" />
				<button type="button" class="quiet" onclick={() => (isOpening = false)}>Close</button>
			</div>
		</form>
	{/if}
	{#if rows.length}
		<Thing>
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
			<section class="costs" aria-label="Cost of goods">
				<h2>What do goods cost that leave?</h2>
				<Rules way="company" id={0} group="Cost of goods" />
			</section>
			{#snippet side()}<Rates />{/snippet}
		</Thing>
	{:else}<Pending query={accounts} isEmpty empty="No account yet." />{/if}
	{#snippet totals()}<span class="ml-auto"
			>All accounts <b class="double">{figure(accounts.data?.total)}</b>
			{session.currency}</span
		>{/snippet}
</Sheet>

<style>
	.open {
		display: grid;
		gap: 8px;
		padding: 12px 20px;
		border-bottom: 1px solid var(--rule);
	}
	.costs {
		margin-block: 26px 30px;
	}
	.costs h2 {
		margin: 0 0 6px;
	}
	.line {
		display: flex;
		gap: 12px;
		align-items: end;
		flex-wrap: wrap;
	}
</style>

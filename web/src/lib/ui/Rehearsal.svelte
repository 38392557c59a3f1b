<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import Pending from './Pending.svelte';

	/** What a change of rules would do to every listing, before it is saved. */
	type Rules = Schemas['RulesIn'];
	type Props = { way: string; id: number | string; version: number; rules: Rules };
	let { way, id, version, rules }: Props = $props();
	const resting = new Resting<Rules>(() => rules);
	const rehearsal = createQuery(() => ({
		queryKey: ['rules rehearsal', way, id, version, resting.value],
		queryFn: () =>
			ask(
				api.POST('/api/v1/settings/{way}/{key}/rehearsal', {
					params: { path: { way, key: `${id}` } },
					body: resting.value
				})
			),
		placeholderData: (before) => before,
		retry: false
	}));
	const data = $derived(rehearsal.data);
	const changed = $derived(data ? data.rising + data.falling : 0);
	const repriced = $derived(data ? data.prices_changing + data.prices_held : 0);
</script>

<section class="rehearsal" aria-label="Rehearsal">
	<h2>What this would change</h2>
	{#if data?.warning}<p class="warning">{data.warning}</p>{/if}
	{#if rehearsal.isError}
		<p class="wrong" role="alert">{rehearsal.error.message}</p>
	{:else if !data}
		<Pending query={rehearsal} />
	{:else if !data.listings}
		<p>Nothing yet: none of its listings is paired with an item.</p>
	{:else if !changed && repriced}
		{@render priced()}
	{:else if !changed}
		{#if data.retold}{@render told()}{:else}<p>
				Nothing: all {count(data.listings, 'listing')} would show what they show now.
			</p>{/if}
	{:else}
		<p role="status">
			<b>{figure(String(changed), '0')} of {count(data.listings, 'listing')}</b> would show
			something else: {figure(String(data.falling), 'none')} fewer, {figure(
				String(data.rising),
				'none'
			)} more.
			{#if data.to_zero}<b class="zero">{count(data.to_zero, 'listing')} would fall to zero.</b
				>{/if}
			{#if data.from_zero}{count(data.from_zero, 'listing')} would come back from zero.{/if}
		</p>
		{#if repriced}{@render priced()}{/if}
		{#if data.retold}{@render told()}{/if}
		<div class="rows-frame">
			<table class="rows">
				<thead
					><tr
						><th>Listing</th><th class="num">Shows</th><th class="num">Would show</th><th
							class="num"
							title="Price without tax less average cost, of the units no longer shown"
							>Margin no longer shown, {data.currency}</th
						></tr
					></thead
				>
				<tbody>
					{#each data.rows as row (row.listing_id)}
						<tr
							><td class="long"
								><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
								<span class="soft small whitespace-nowrap">{row.sku}</span></td
							><td class="num">{figure(row.now, '0')}</td><td
								class="num then"
								class:zero={row.then === '0'}>{figure(row.then, '0')}</td
							><td class="num">{figure(row.at_stake)}</td></tr
						>
					{/each}
				</tbody>
				<tfoot
					><tr
						><td
							>{changed > data.rows.length
								? `All ${figure(String(changed))} that change, of which the ${data.rows.length} above matter most`
								: 'All that change'}; units of every listing</td
						><td class="num">{figure(data.units_now, '0')}</td><td class="num"
							>{figure(data.units_then, '0')}</td
						><td class="num"><span class="double">{figure(data.at_stake, '0')}</span></td></tr
					></tfoot
				>
			</table>
		</div>
	{/if}
</section>

{#snippet told()}<p role="status">
		<b>{count(data?.retold ?? 0, 'listing')}</b> would tell the shopper something else.
	</p>{/snippet}
{#snippet priced()}<p role="status">
		{#if data?.prices_changing}<b>{count(data.prices_changing, 'listing')}</b> would show another price.{/if}
		{#if data?.prices_held}<b class="zero"
				>{count(data.prices_held, 'price')} would be held, below the margin floor.</b
			>{/if}
	</p>{/snippet}

<style>
	.rehearsal {
		margin: 18px 20px 0;
		padding: 12px 0 0;
		border-top: 2px solid var(--reed);
	}
	.rows-frame {
		max-height: 330px;
		overflow: auto;
		margin-top: 8px;
		border: 1px solid var(--rule);
	}
	.then {
		font-weight: 600;
	}
	.warning {
		margin: 4px 0 8px;
		padding: 6px 10px;
		background: var(--ochre-tint);
	}
	.zero,
	.wrong {
		color: var(--madder);
	}
	tfoot td {
		position: sticky;
		bottom: 0;
		background: var(--sheet);
		border-top: 1px solid var(--ink);
		padding-block: 7px 9px;
	}
	tfoot td:first-child {
		color: var(--ink-soft);
	}
</style>

<script lang="ts" module>
	import type { Schemas } from '#lib/api/client.ts';

	/** What is tried out: other facts of the list, or a change of its prices by rule. */
	export type Subject =
		{ kind: 'list'; body: Schemas['PriceListIn'] } | { kind: 'rule'; body: Schemas['PriceRuleIn'] };
</script>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { count, figure, percent } from '#lib/format.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import Pending from './Pending.svelte';

	type Props = { list: Schemas['PriceListOut']; subject: Subject };
	let { list, subject }: Props = $props();
	const resting = new Resting<Subject>(() => subject);
	const path = $derived({ list_id: list.id });
	const rehearsal = createQuery(() => ({
		queryKey: ['price rehearsal', list.id, list.version, list.changes[0]?.id, resting.value],
		queryFn: () =>
			resting.value.kind === 'list'
				? ask(
						api.POST('/api/v1/price-lists/{list_id}/rehearsal', {
							params: { path },
							body: resting.value.body
						})
					)
				: ask(
						api.POST('/api/v1/price-lists/{list_id}/changes/rehearsal', {
							params: { path },
							body: resting.value.body
						})
					),
		placeholderData: (before) => before,
		retry: false
	}));
	const data = $derived(rehearsal.data);
	const changing = $derived(data ? data.rising + data.falling + data.new + data.gone : 0);
</script>

<section class="rehearsal" aria-label="Rehearsal">
	<h2>What this would change</h2>
	{#if rehearsal.isError}
		<p class="wrong" role="alert">{rehearsal.error.message}</p>
	{:else if !data}
		<Pending query={rehearsal} />
	{:else if !changing}
		<p>Nothing in this list.</p>
	{:else}
		<p role="status">
			<b>{count(changing, 'price')}</b> of {count(data.items, 'item')}: {figure(
				`${data.rising}`,
				'none'
			)} dearer, {figure(`${data.falling}`, 'none')} cheaper{#if data.new}, {data.new} new{/if}{#if data.gone},
				{data.gone} gone{/if}.
			{#if data.below_floor}<b class="wrong"
					>{count(data.below_floor, 'price')} would lie below the margin floor and not be shown.</b
				>{/if}
		</p>
		<p class="soft">
			{#if data.margin_gained !== '0.00' || data.margin_lost !== '0.00'}Had all that left in the
				last
				{data.pace_days} days been sold at it: margin
				{#if data.margin_gained !== '0.00'}<b>+{figure(data.margin_gained)}</b>{/if}
				{#if data.margin_lost !== '0.00'}<b>−{figure(data.margin_lost)}</b>{/if}
				{data.currency}.{/if}
			{#if data.others.length}Lists that follow: {data.others
					.map((one) => `${one.name} (${one.changing})`)
					.join(', ')}.{/if}
		</p>
		<div class="rows-frame">
			<table class="rows">
				<thead
					><tr
						><th>Item</th><th class="num">Now</th><th class="num">Then</th><th
							class="num"
							title="Of the price without tax">Margin then</th
						></tr
					></thead
				>
				<tbody>
					{#each data.rows as row (row.item_id)}
						<tr
							><td class="long"
								>{row.title} <span class="soft small whitespace-nowrap">{row.sku}</span></td
							><td class="num">{figure(row.now)}</td><td class="num then">{figure(row.then)}</td><td
								class="num"
								class:wrong={row.below_floor}>{percent(row.margin)}</td
							></tr
						>
					{/each}
				</tbody>
			</table>
		</div>
		{#if changing > data.rows.length}<p class="soft small">
				The {data.rows.length} that matter most are shown.
			</p>{/if}
	{/if}
</section>

<style>
	.rehearsal {
		margin-top: 16px;
		padding-top: 12px;
		border-top: 2px solid var(--reed);
	}
	.rows-frame {
		max-height: 260px;
		overflow: auto;
		margin-top: 8px;
		border: 1px solid var(--rule);
	}
	.then {
		font-weight: 600;
	}
	.wrong {
		color: var(--madder);
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import Pending from './Pending.svelte';

	/** What a change of how things are replenished would order, before it is saved. */
	type Change = Schemas['SettingsChangeIn'];
	type Props = { way: string; id: number | string; version: number; rules: Change };
	let { way, id, version, rules }: Props = $props();
	const resting = new Resting<Change>(() => rules);
	const rehearsal = createQuery(() => ({
		queryKey: ['reorder rehearsal', way, id, version, resting.value],
		queryFn: () =>
			ask(
				api.POST('/api/v1/replenishment/rehearsal/{way}/{key}', {
					params: { path: { way, key: `${id}` } },
					body: resting.value
				})
			),
		placeholderData: (before) => before,
		retry: false
	}));
	const data = $derived(rehearsal.data);
	const FIGURES = [
		['Demand over lead time and cover', 'demand'],
		['Safety stock', 'safety_stock'],
		['Reorder point', 'reorder_point'],
		['Order', 'quantity']
	] as const;
</script>

<section class="rehearsal" aria-label="Rehearsal">
	<h2>What this would change</h2>
	{#if rehearsal.isError}
		<p class="wrong" role="alert">{rehearsal.error.message}</p>
	{:else if !data}
		<Pending query={rehearsal} />
	{:else}
		<div class="parts">
			{#if data.now && data.then}
				<table class="rows own" aria-label="This item here">
					<thead
						><tr><th>This item here</th><th class="num">Now</th><th class="num">Then</th></tr
						></thead
					>
					<tbody>
						{#each FIGURES as [label, name] (name)}<tr class:sum={name === 'quantity'}
								><td
									>{label}{#if name === 'demand'}<span class="soft small block">
											{data.now.days === data.then.days
												? `${data.now.days} days`
												: `${data.now.days} and ${data.then.days} days`}</span
										>{/if}</td
								><td class="num">{figure(data.now[name])}</td><td class="num then"
									>{figure(data.then[name])}</td
								></tr
							>{/each}
					</tbody>
				</table>
			{/if}
			<div class="all">
				<p role="status">
					{#if data.changing}Of <b>{figure(String(data.changing), '0')} of {data.reached}</b> rows
						something else would be ordered: {figure(data.amount_then, '0')} instead of {figure(
							data.amount_now,
							'0'
						)}
						{data.currency} in all{#if data.late_now !== data.late_then}, {data.late_then} instead of
							{data.late_now}
							run out before an order can arrive{/if}.{:else}Nothing: the same would be ordered of
						all {count(data.reached, 'row')}.{/if}
					{#if data.rehearsed < data.reached}<span class="soft"
							>Worked out for the {data.rehearsed} that run out first.</span
						>{/if}
				</p>
				{#if data.rows.length && !(data.rows.length === 1 && data.now)}
					<div class="rows-frame">
						<table class="rows" aria-label="Rows that change">
							<thead
								><tr
									><th>Item</th><th>Place</th><th class="num">Order now</th><th class="num">Then</th
									><th class="num">More by, {data.currency}</th></tr
								></thead
							>
							<tbody>
								{#each data.rows as row (`${row.item_id}-${row.location_id}`)}<tr
										><td class="long"
											><a
												class="plain-link"
												href="/buying/forecasts/{row.item_id}/{row.location_id}">{row.title}</a
											> <span class="soft small whitespace-nowrap">{row.sku}</span></td
										><td class="place">{row.location}</td><td class="num">{figure(row.now, '0')}</td
										><td class="num then">{figure(row.then, '0')}</td><td class="num"
											>{figure(row.more)}</td
										></tr
									>{/each}
							</tbody>
						</table>
					</div>
				{/if}
			</div>
		</div>
	{/if}
</section>

<style>
	.rehearsal {
		margin: 18px 20px 0;
		padding: 12px 0 0;
		border-top: 2px solid var(--reed);
	}
	.parts {
		display: flex;
		flex-wrap: wrap;
		gap: 12px 34px;
		align-items: flex-start;
	}
	.own {
		width: auto;
		min-width: 330px;
	}
	.all {
		flex: 1;
		min-width: 320px;
	}
	.rows :is(th, td):first-child {
		padding-left: 0;
	}
	thead th {
		position: static;
	}
	.rows-frame {
		max-height: 300px;
		overflow: auto;
		margin-top: 8px;
		border: 1px solid var(--rule);
		padding-left: 10px;
	}
	.then {
		font-weight: 600;
	}
	.sum td {
		border-top: 1px solid var(--ink);
	}
	.wrong {
		color: var(--madder);
	}
</style>

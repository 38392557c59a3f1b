<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import Demand from '#lib/charts/Demand.svelte';
	import { day, figure, moment, signed } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Facts from '#lib/ui/Facts.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const item = $derived(Number(page.params.item));
	const place = $derived(Number(page.params.place));
	const key = $derived(`${item}-${place}`);
	const forecast = createQuery(() => ({
		queryKey: ['forecast', item, place],
		queryFn: () =>
			ask(
				api.GET('/api/v1/forecasts/{item_id}/{location_id}', {
					params: { path: { item_id: item, location_id: place } }
				})
			),
		retry: false
	}));
	const data = $derived(forecast.data);

	async function decide(line: number, aside: boolean): Promise<void> {
		try {
			const { said } = await ask(
				api.PUT('/api/v1/forecasts/one-offs/{line_id}', {
					params: { path: { line_id: line } },
					body: { aside }
				})
			);
			notices.say(said);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}
</script>

<Sheet question={data ? data.title : 'What will sell?'} tabs={BUYING_TABS}>
	{#snippet lead()}
		{#if data}<a href="/range/items/{data.item_id}">{data.sku}</a> at {data.location}. {data.sentence}{/if}
	{/snippet}
	{#if data}
		<Facts isOfFigures>
			<div>
				<dt>Daily demand, next {data.suggestion.days} days</dt>
				<dd><Fig value={data.per_day} kind="demand" id={key} /></dd>
			</div>
			<div>
				<dt>Next 30 days</dt>
				<dd>
					{#if data.month === null}–{:else}<Fig
							value={Number(data.month).toFixed(1)}
							kind="month"
							id={key}
						/>{/if}
				</dd>
			</div>
			<div>
				<dt>The same 30 days a year before</dt>
				<dd>{data.last_year === null ? 'not in stock' : figure(data.last_year, '0')}</dd>
			</div>
			<div>
				<dt>Daily sales, last 90 days</dt>
				<dd><Fig value={data.velocity} kind="velocity" id={key} /></dd>
			</div>
			<div>
				<dt>Cover</dt>
				<dd>
					{data.suggestion.cover === null
						? 'lasts'
						: `${Math.round(Number(data.suggestion.cover))} days`}
				</dd>
			</div>
			<div>
				<dt>Order</dt>
				<dd><Fig value={data.suggestion.quantity} kind="suggestion" id={key} /></dd>
			</div>
		</Facts>
		<div class="chart"><Demand past={data.past} ahead={data.weeks} /></div>
		<div class="halves">
			<section>
				<h2>How it was forecast</h2>
				{#if data.candidates.length}
					<table class="rows">
						<thead
							><tr
								><th>Tested on its own history</th><th class="num">Weight</th><th class="num"
									>Error</th
								><th class="num">Bias</th></tr
							></thead
						>
						<tbody>
							{#each data.candidates as one (one.name)}
								<tr class:chosen={one.chosen}>
									<td>{one.name} <span class="soft small">{one.words}</span></td>
									<td class="num" class:soft={one.weight < 0.005}
										>{one.weight < 0.005 ? '·' : `${Math.round(one.weight * 100)} %`}</td
									>
									<td class="num">{one.error.toFixed(2)}</td>
									<td class="num">{signed(one.bias)}</td>
								</tr>
							{/each}
						</tbody>
					</table>
					<p class="soft small note">
						Weight: its share in the forecast. Error: mean error beside repeating the same week of
						last year (the week before, where last year is not known); below 1 is better. Bias: in
						the same unit, above zero it forecasts too much. What the rest of its category shows
						counts as well.
					</p>
				{:else}<p class="soft note">
						{data.at
							? 'Its history is too short to test a method on.'
							: 'Not forecast yet; the average of its days in stock is used.'}
					</p>{/if}
				{#if data.at}<p class="soft small note">Calculated {moment(data.at)}.</p>{/if}
			</section>
			<section>
				<h2>One-off orders</h2>
				{#if data.one_offs.length}
					<table class="rows">
						<tbody>
							{#each data.one_offs as one (one.line)}
								<tr>
									<td>{one.order} <span class="soft small">{day(one.day)}</span></td>
									<td class="num">{figure(String(one.units))}</td>
									<td class="soft small">usually {figure(String(one.usual))}</td>
									<td
										>{one.aside ? 'set aside' : 'counted'}<span class="soft small"
											>{one.by_hand ? ' by hand' : ''}</span
										></td
									>
									<td class="num"
										>{#if session.may('buy')}<button
												class="quiet small"
												onclick={() => decide(one.line, !one.aside)}
												>{one.aside ? 'Include' : 'Set aside'}</button
											>{/if}</td
									>
								</tr>
							{/each}
						</tbody>
					</table>
				{:else}<p class="soft note">None stands out.</p>{/if}
			</section>
		</div>
		<section class="rules">
			<h2>How it is replenished</h2>
			<Rules way="stocked" id={key} group="Replenishment" />
		</section>
	{:else}<Pending query={forecast} />{/if}
</Sheet>

<style>
	.chart {
		padding: 14px 8px 10px 20px;
		border-bottom: 1px solid var(--rule);
	}
	.halves {
		display: grid;
		grid-template-columns: minmax(0, 1.25fr) minmax(300px, 1fr);
	}
	.halves section {
		padding: 14px 20px 20px;
		min-width: 0;
	}
	.halves section + section {
		border-left: 1px solid var(--rule);
	}
	.rules {
		border-top: 1px solid var(--rule);
		padding: 14px 0 20px;
	}
	.rules h2 {
		padding: 0 20px;
	}
	h2 {
		margin-bottom: 8px;
	}
	.note {
		margin: 8px 0 14px;
	}
	.rows :is(th, td):first-child {
		padding-left: 0;
	}
	.rows :is(th, td):last-child {
		padding-right: 0;
	}
	.chosen td {
		font-weight: 600;
	}
	.chosen td:first-child::before {
		content: '▸ ';
		color: var(--reed);
	}
	@media (max-width: 900px) {
		.halves {
			grid-template-columns: 1fr;
		}
		.halves section + section {
			border-left: 0;
		}
	}
</style>

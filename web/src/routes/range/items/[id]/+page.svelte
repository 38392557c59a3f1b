<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PriceLadder from '#lib/ui/PriceLadder.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.id));
	const item = createQuery(() => ({
		queryKey: ['item', id],
		queryFn: () => ask(api.GET('/api/v1/items/{item_id}', { params: { path: { item_id: id } } })),
		refetchInterval: 4000
	}));
	const data = $derived(item.data);
	const prices = createQuery(() => ({
		queryKey: ['item prices', id],
		queryFn: () =>
			ask(api.GET('/api/v1/items/{item_id}/prices', { params: { path: { item_id: id } } })),
		refetchInterval: 8000
	}));
	/** Whose rules are open. */
	let ruled = $state<{ way: string; id: number; name: string } | null>(null);
</script>

<Sheet question={data?.title ?? 'Item'} tabs={RANGE_TABS}>
	{#snippet lead()}
		{#if data}
			{[data.sku, data.category || 'no category', data.kind, ...data.barcodes].join(' · ')} · {figure(
				data.price
			)}
			{session.currency} with tax
		{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}<a class="quiet" href="/range/products/{data.product_id}"
				>{session.may('change the range') ? 'Change' : 'Product'}</a
			>
			<button
				class="quiet"
				onclick={() => (ruled = { way: 'item', id: data.id, name: 'every channel' })}
				>Rules on every channel</button
			>
			{#if !data.active}<Mark state="closed" word="retired" />{/if}{/if}
	{/snippet}
	{#if data}
		<div class="page">
			{#if data.components.length}
				<section>
					<h2>Components</h2>
					<ul>
						{#each data.components as part (part.item_id)}
							<li>
								{figure(part.quantity)} × <a href="/range/items/{part.item_id}">{part.title}</a>
								<span class="soft small">{part.sku}</span>
							</li>
						{/each}
					</ul>
				</section>
			{/if}
			{#if data.places.length}
				<section>
					<h2>Stock</h2>
					<table class="rows">
						<thead
							><tr
								><th>Location</th><th class="num">On hand</th><th class="num">Committed</th><th
									class="num">Available</th
								><th class="num">Backordered</th><th class="num">Incoming</th></tr
							></thead
						>
						<tbody>
							{#each data.places as place (place.location_id)}
								{@const key = `${data.id}-${place.location_id}`}
								<tr data-row>
									<td>{place.location}</td>
									<td class="num"><Fig value={place.on_hand} kind="on-hand" id={key} /></td>
									<td class="num"><Fig value={place.committed} kind="committed" id={key} /></td>
									<td class="num"><Fig value={place.available} kind="available" id={key} /></td>
									<td class="num">{figure(place.backordered)}</td>
									<td class="num"><Fig value={place.incoming} kind="incoming" id={key} /></td>
								</tr>
							{/each}
						</tbody>
					</table>
				</section>
			{/if}
			<section>
				<h2>Listings</h2>
				{#if data.listings.length}
					<table class="rows">
						<thead
							><tr
								><th>Connection</th><th class="num">Offered</th><th class="num">Shown</th><th
									>State</th
								><th class="num">Price</th><th class="num">Price shown</th><th>State</th><th
									>Pairing</th
								><th><span class="sr-only">Rules</span></th></tr
							></thead
						>
						<tbody>
							{#each data.listings as row (row.id)}
								<tr data-row>
									<td
										><a class="plain-link" href="/connections/{row.connection_id}"
											>{row.connection}</a
										></td
									>
									<td class="num"
										>{#if row.offered === null}<span class="soft">–</span>{:else}<Fig
												value={row.offered}
												kind="offer"
												id={`${row.id}`}
											/>{/if}</td
									>
									<td class="num">{figure(row.shown)}</td>
									<td
										>{#if row.state}<Mark state={row.state} />{:else}<span class="soft"
												>{row.live ? 'nothing to offer' : 'connection not live'}</span
											>{/if}</td
									>
									<td class="num"
										>{#if row.price_offered === null}<span class="soft">–</span>{:else}<Fig
												value={row.price_offered}
												kind="price-offer"
												id={`${row.id}`}
											/>{/if}</td
									>
									<td class="num">{figure(row.price)}</td>
									<td
										>{#if row.price_state}<Mark state={row.price_state} />{:else}<span class="soft"
												>kept apart</span
											>{/if}</td
									>
									<td><Fig value="why" kind="pairing" id={`${row.id}`} /></td>
									<td
										>{#if row.offered !== null}<button
												class="quiet"
												onclick={() =>
													(ruled = { way: 'listing', id: row.id, name: row.connection })}
												>Rules</button
											>{/if}</td
									>
								</tr>
							{/each}
						</tbody>
					</table>
				{:else}<p class="soft">Not listed on any channel yet.</p>{/if}
			</section>
			<section>
				<h2>
					Prices {#if prices.data}<span class="soft small"
							>{prices.data.cost === null
								? 'no cost is known'
								: `cost ${Number(prices.data.cost).toFixed(4)}`}, tax {figure(
								prices.data.tax_percent,
								'0'
							)} %{prices.data.floor === null
								? ''
								: `, margin floor ${figure(prices.data.floor, '0')} %`}</span
						>{/if}
				</h2>
				{#if prices.data}<PriceLadder data={prices.data} />{:else}<Pending query={prices} />{/if}
			</section>
			{#if data.kind === 'stocked'}
				<section>
					<h2>
						Cost history {#if data.average_cost}<span class="soft small"
								>now {Number(data.average_cost).toFixed(4)} on average, last {Number(
									data.last_cost
								).toFixed(4)}, stock worth {figure(data.value, '0.00')}
								{session.currency}</span
							>{/if}
					</h2>
					<table class="rows">
						<thead
							><tr
								><th>When</th><th>Cause</th><th>Document</th><th class="num">Units</th><th
									class="num">Value</th
								><th class="num">Average before</th><th class="num">after</th></tr
							></thead
						>
						<tbody>
							{#each data.costs as row (row.id)}
								<tr data-row>
									<td class="soft">{moment(row.at)}</td>
									<td>{row.cause}</td>
									<td class="soft"
										>{#if row.link}<a href={row.link}>{row.document}</a
											>{:else}{row.document}{/if}</td
									>
									<td class="num">{figure(row.quantity)}</td>
									<td class="num">{figure(row.value)}</td>
									<td class="num">{Number(row.average_before).toFixed(2)}</td>
									<td class="num"
										><Fig
											value={Number(row.average_after).toFixed(2)}
											kind="cost-change"
											id={`${row.id}`}
										/></td
									>
								</tr>
							{:else}<tr><td colspan="7" class="soft">Never received.</td></tr>{/each}
						</tbody>
					</table>
				</section>
			{/if}
		</div>
	{:else}<Pending query={item} />{/if}
</Sheet>
<Dialogue
	isOpen={ruled !== null}
	title="Rules on {ruled?.name ?? ''}"
	wide
	onclose={() => (ruled = null)}
>
	{#if ruled}
		<h2>Quantities shown</h2>
		<Rules way={ruled.way} id={ruled.id} group="Quantities shown" />
		<h2 class="mt-5">Prices</h2>
		<Rules way={ruled.way} id={ruled.id} group="Prices" />
	{/if}
</Dialogue>

<style>
	.page {
		display: grid;
		gap: 24px;
		padding: 18px 0 30px;
	}
	h2,
	ul,
	p {
		padding: 0 20px 4px;
	}
</style>

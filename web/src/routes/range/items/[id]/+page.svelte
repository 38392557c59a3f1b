<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Shape from '#lib/charts/Shape.svelte';
	import Steps from '#lib/charts/Steps.svelte';
	import { countryName, day, figure, moment, percent } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Beam from '#lib/ui/Beam.svelte';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PriceLadder from '#lib/ui/PriceLadder.svelte';
	import Ribbon from '#lib/ui/Ribbon.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { item_id: id } });
	const item = createQuery(() => ({
		queryKey: ['item', id],
		queryFn: () => ask(api.GET('/api/v1/items/{item_id}', { params }))
	}));
	const data = $derived(item.data);
	const prices = createQuery(() => ({
		queryKey: ['item prices', id],
		queryFn: () => ask(api.GET('/api/v1/items/{item_id}/prices', { params }))
	}));
	const around = createQuery(() => ({
		queryKey: ['item around', id],
		queryFn: () => ask(api.GET('/api/v1/items/{item_id}/around', { params }))
	}));
	/** How long it lasts and what is expected, place by place: the rows that the sheets of buying show. */
	const cover = createQuery(() => ({
		queryKey: ['item cover', id],
		queryFn: () =>
			ask(
				api.GET('/api/v1/replenishment/rows', {
					params: { query: { item: id, show: 'all' } }
				})
			),
		enabled: data?.kind === 'stocked'
	}));
	const expected = createQuery(() => ({
		queryKey: ['item forecast', id],
		queryFn: () => ask(api.GET('/api/v1/forecasts', { params: { query: { item: id } } })),
		enabled: data?.kind === 'stocked'
	}));
	const ribbonAt = (place: number): Schemas['ReplenishRow'] | undefined =>
		cover.data?.rows.find((row) => row.location_id === place && !row.fault);
	const demandAt = (place: number): Schemas['ForecastRow'] | undefined =>
		expected.data?.rows.find((row) => row.location_id === place && !row.fault);
	const steps = $derived(
		(data?.costs ?? []).map((row) => ({ at: row.at, value: Number(row.average_after) })).reverse()
	);
	const base = $derived(prices.data?.rungs.find((rung) => rung.base));
	/** Whose rules are open. */
	let ruled = $state<{ way: string; id: number; name: string } | null>(null);
	type Listing = Schemas['ListingBrief'];
	const lean = (row: Listing): number =>
		Number(row.offered ?? 0) - Number(row.shown ?? row.offered ?? 0);
	const priceLean = (row: Listing): number =>
		row.price_offered === null ? 0 : Number(row.price_offered) - Number(row.price ?? 0);
	const tone = (state: string): 'madder' | 'ochre' | 'reed' =>
		state === 'drifting' || state === 'held' ? 'madder' : state === 'pending' ? 'ochre' : 'reed';
	const said = (row: Schemas['TraceOut']): string =>
		Object.keys(row.after)
			.map((name) =>
				name in row.before
					? `${name}: ${row.before[name] || 'empty'} → ${row.after[name] || 'empty'}`
					: `${name}: ${row.after[name]}`
			)
			.join('; ');
</script>

<Sheet question={data?.title ?? 'Item'} tabs={RANGE_TABS}>
	{#snippet lead()}
		{#if data}{[data.sku, data.category || 'no category', data.kind, ...data.barcodes].join(
				' · '
			)}{/if}
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
		<div class="frame">
			<div class="page">
				<div class="most">
					{#if data.components.length}
						<section>
							<h2>Components</h2>
							<ul>
								{#each data.components as part (part.item_id)}
									<li>
										{figure(part.quantity)} ×
										<a href="/range/items/{part.item_id}">{part.title}</a>
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
										><th class="num">Backordered</th><th class="num">Incoming</th><th class="ribbon"
											><span class="scale"
												><span>today</span><span>30</span><span>60</span><span>90 d</span></span
											></th
										><th>A year of demand</th></tr
									></thead
								>
								<tbody>
									{#each data.places as place (place.location_id)}
										{@const key = `${data.id}-${place.location_id}`}
										{@const line = ribbonAt(place.location_id)}
										{@const demand = demandAt(place.location_id)}
										<tr data-row>
											<td>{place.location}</td>
											<td class="num"><Fig value={place.on_hand} kind="on-hand" id={key} /></td>
											<td class="num"><Fig value={place.committed} kind="committed" id={key} /></td>
											<td class="num"><Fig value={place.available} kind="available" id={key} /></td>
											<td class="num">{figure(place.backordered)}</td>
											<td class="num"><Fig value={place.incoming} kind="incoming" id={key} /></td>
											<td class="ribbon"
												>{#if line}<Ribbon ribbon={line.ribbon} cover={line.cover} />{/if}</td
											>
											<td
												>{#if demand}<a
														class="shape"
														title="Open the forecast"
														href="/buying/forecasts/{data.id}/{place.location_id}"
														><Shape past={demand.past} ahead={demand.ahead} width={150} /></a
													>{/if}</td
											>
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
										><th>Connection</th><th class="num">Offered</th><th
											><span class="sr-only">Offered and shown</span></th
										><th class="num">Shown</th><th class="num">Price</th><th
											><span class="sr-only">Price offered and shown</span></th
										><th class="num">Price shown</th><th>Pairing</th><th
											><span class="sr-only">Rules</span></th
										></tr
									></thead
								>
								<tbody>
									{#each data.listings as row (row.id)}
										<tr data-row>
											<td class="long"
												><a class="plain-link" href="/range/listings/{row.id}">{row.connection}</a>
												{#if row.state && row.state !== 'agreed'}<Mark
														state={row.state}
													/>{:else if !row.state}<span class="soft small"
														>{row.live ? 'nothing to offer' : 'not live'}</span
													>{/if}</td
											>
											<td class="num"
												>{#if row.offered === null}<span class="soft">–</span>{:else}<Fig
														value={row.offered}
														kind="offer"
														id={`${row.id}`}
													/>{/if}</td
											>
											<td class="beam"
												>{#if row.offered !== null}<Beam
														tilt={lean(row)}
														tone={tone(row.state)}
														label="offered and shown {row.state}"
													/>{/if}</td
											>
											<td class="num">{figure(row.shown)}</td>
											<td class="num"
												>{#if row.price_offered === null}<span class="soft">–</span>{:else}<Fig
														value={row.price_offered}
														kind="price-offer"
														id={`${row.id}`}
													/>{/if}</td
											>
											<td class="beam"
												>{#if row.price_offered !== null}<Beam
														tilt={priceLean(row)}
														tone={tone(row.price_state)}
														label="price offered and shown {row.price_state}"
													/>{/if}</td
											>
											<td class="num"
												>{figure(
													row.price
												)}{#if row.price_currency && row.price_currency !== session.currency}<span
														class="soft small">&nbsp;{row.price_currency}</span
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
						<h2>Prices</h2>
						{#if prices.data}<PriceLadder data={prices.data} />{:else}<Pending
								query={prices}
							/>{/if}
					</section>
					{#if data.description}<section class="words">
							<h2>Description</h2>
							<!-- What may stand in it was decided when it was kept: a few tags, no scripts. -->
							<!-- eslint-disable-next-line svelte/no-at-html-tags -->
							<div class="formatted">{@html data.description}</div>
						</section>{/if}
				</div>
				<div class="side">
					{#if data.pictures.length}<div class="pictures">
							{#each data.pictures.slice(0, 4) as one (one.id)}<a
									href="/api/v1/pictures/{one.id}/full"
									target="_blank"
									rel="noreferrer"
									><img
										src="/api/v1/pictures/{one.id}/thumb"
										alt={one.alt}
										width="148"
										height="148"
									/></a
								>{/each}
						</div>{/if}
					<dl class="panel facts">
						<dt>Base price</dt>
						<dd>{figure(data.price)} <span class="soft">{session.currency} with tax</span></dd>
						{#if data.average_cost}
							<dt>Average cost</dt>
							<dd><Fig value={Number(data.average_cost).toFixed(4)} kind="cost" id={`${id}`} /></dd>
							<dt>Last cost</dt>
							<dd>{Number(data.last_cost).toFixed(4)}</dd>
							<dt>Stock worth</dt>
							<dd>{figure(data.value, '0.00')} <span class="soft">{session.currency}</span></dd>
						{/if}
						{#if base?.margin}<dt>Margin</dt>
							<dd class:bad={base.below_floor}>{percent(base.margin)}</dd>{/if}
						{#if prices.data?.floor}<dt>Margin floor</dt>
							<dd>{percent(prices.data.floor)}</dd>{/if}
						{#if data.country}<dt>Made in</dt>
							<dd class="words">{countryName(data.country)}</dd>{/if}
						{#if data.expiry_tracked && data.shelf_life_days}<dt>Keeps for</dt>
							<dd>{figure(`${data.shelf_life_days}`)} <span class="soft">days</span></dd>{/if}
						{#if data.weight_grams}<dt>Weight</dt>
							<dd>{figure(`${data.weight_grams}`)} <span class="soft">g</span></dd>{/if}
						{#if data.length_mm || data.width_mm || data.height_mm}<dt>L × W × H</dt>
							<dd>
								{data.length_mm} × {data.width_mm} × {data.height_mm} <span class="soft">mm</span>
							</dd>{/if}
					</dl>
					{#if steps.length > 1}<section>
							<h2>Average cost</h2>
							<Steps points={steps} label="Average cost" />
						</section>{/if}
					{#if around.data}
						{#if around.data.suppliers.length}<section>
								<h2>Suppliers</h2>
								<ul>
									{#each around.data.suppliers as one (one.supplier_id)}<li>
											<a href="/buying/suppliers/{one.supplier_id}">{one.supplier}</a>
											{one.price ? figure(Number(one.price).toFixed(2)) : '–'}
											{one.currency}{#if one.preferred}, preferred{/if}
											<span class="soft small block"
												>{one.code || 'no SKU of theirs'} · packs of {figure(one.pack)} · {one.lead_days}
												days</span
											>
										</li>{/each}
								</ul>
							</section>{/if}
						<section>
							<h2>On its way</h2>
							<ul>
								{#each around.data.coming as one (`${one.link} ${one.location}`)}<li>
										<b>{figure(one.units)}</b> to {one.location},
										<span class:bad={one.late}
											>{day(one.expected_on)}{one.late ? ', late' : ''}</span
										>
										<a class="small block" href={one.link}>{one.number} from {one.source}</a>
									</li>{:else}<li class="soft">Nothing is on its way.</li>{/each}
							</ul>
						</section>
						<section>
							<h2>Who has it</h2>
							<ul>
								{#each around.data.waiting as one, n (n)}<li>
										<b>{figure(one.units)}</b>
										<span class:look={one.state === 'backordered'}>{one.state}</span> for
										<a href={one.link}>{one.number}</a>
										<span class="soft small">{one.of}, {moment(one.at)}</span>
									</li>{:else}<li class="soft">Nobody: no order, no transfer.</li>{/each}
							</ul>
						</section>
					{/if}
				</div>
				<div class="below">
					{#if data.kind === 'stocked'}
						<section>
							<h2>Cost history</h2>
							<table class="rows narrow">
								<thead
									><tr
										><th>When</th><th>Cause</th><th>Document</th><th class="num">Units</th><th
											class="num">Value</th
										><th class="num">Average before</th><th class="num">after</th></tr
									></thead
								>
								<tbody>
									{#each data.costs.slice(0, 12) as row (row.id)}
										<tr data-row>
											<td class="soft place">{moment(row.at)}</td>
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
						{#if data.layers}
							<section aria-label="What is there">
								<h2>What is there came in at</h2>
								<table class="rows narrow">
									<thead
										><tr
											><th>Document</th><th class="num">Units</th><th class="num">Each</th><th
												class="num">Value</th
											></tr
										></thead
									>
									<tbody>
										{#each data.layers as row, n (n)}
											<tr data-row>
												<td class={row.came ? '' : 'soft'}
													>{row.came || 'before first in, first out'}</td
												>
												<td class="num">{figure(row.quantity)}</td>
												<td class="num">{Number(row.unit_cost).toFixed(2)}</td>
												<td class="num">{figure(row.value)}</td>
											</tr>
										{:else}<tr><td colspan="4" class="soft">Nothing is there.</td></tr>{/each}
									</tbody>
								</table>
								<p class="soft small under">The first leaves first, at what it came in at.</p>
							</section>
						{/if}
						<section>
							<h2>Moves <a class="small" href="/shelf/moves?q={data.sku}">all of them</a></h2>
							<table class="rows narrow">
								<tbody>
									{#each around.data?.moves ?? [] as row (row.id)}
										<tr data-row
											><td class="soft place">{moment(row.happened_at)}</td><td class="num"
												>{figure(row.units)}</td
											><td>{row.reason}</td><td class="place">{row.location}</td><td class="soft"
												>{#if row.link}<a href={row.link}>{row.document}</a
													>{:else}{row.document}{/if}</td
											></tr
										>
									{:else}<tr><td class="soft">Nothing has moved yet.</td></tr>{/each}
								</tbody>
							</table>
						</section>
					{/if}
					<section>
						<h2>Who changed what</h2>
						<table class="rows narrow">
							<tbody>
								{#each around.data?.changes ?? [] as row (row.id)}
									<tr data-row
										><td class="soft place">{moment(row.at)}</td><td class="place">{row.actor}</td
										><td>{row.action}</td><td class="long soft">{said(row)}</td></tr
									>
								{:else}<tr><td class="soft">Nothing was changed by hand yet.</td></tr>{/each}
							</tbody>
						</table>
					</section>
				</div>
			</div>
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
		{#each ['Quantities shown', 'Selling past zero', 'What the shopper sees', 'Prices', ...(ruled.way === 'item' ? ['Replenishment'] : [])] as group, n (group)}
			<h2 class:mt-5={n > 0}>{group}</h2>
			<Rules way={ruled.way} id={ruled.id} {group} />
		{/each}
	{/if}
</Dialogue>

<style>
	.under {
		margin: 6px 20px 0;
	}
	.frame {
		container-type: inline-size;
	}
	.pictures {
		display: flex;
		flex-wrap: wrap;
		gap: 10px;
	}
	.pictures img {
		width: 148px;
		height: 148px;
		object-fit: contain;
		background: var(--sheet);
		border: 1px solid var(--rule);
		border-radius: 3px;
	}
	.page {
		display: grid;
		grid-template-columns: minmax(0, 1fr) 316px;
		gap: 24px 28px;
		padding: 18px 20px 30px 0;
		align-items: start;
	}
	.most,
	.side,
	.below {
		display: grid;
		gap: 24px;
		min-width: 0;
	}
	.below {
		grid-column: 1 / -1;
	}
	.most h2,
	.below h2,
	.most > section > ul,
	.most > section > p,
	.most .formatted {
		padding: 0 20px 4px;
	}
	.side h2 {
		margin-bottom: 4px;
	}
	.side li {
		overflow-wrap: anywhere;
		padding: 4px 0;
		border-bottom: 1px solid var(--rule);
	}
	.facts {
		display: grid;
		grid-template-columns: max-content 1fr;
		gap: 4px 16px;
		align-items: baseline;
	}
	.facts dt {
		color: var(--ink-soft);
	}
	.facts dd {
		text-align: right;
		font-variant-numeric: tabular-nums;
	}
	.narrow {
		width: auto;
		min-width: 62%;
	}
	.ribbon {
		width: 184px;
	}
	.scale {
		display: flex;
		justify-content: space-between;
		width: 176px;
	}
	.shape {
		display: block;
	}
	.beam {
		width: 44px;
	}
	.look {
		color: var(--ochre);
		font-weight: 600;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
	/* Beside an open Working, too, there is room for one column only. */
	@container (max-width: 1000px) {
		.page {
			grid-template-columns: minmax(0, 1fr);
			padding-right: 0;
		}
		.side {
			grid-template-columns: repeat(auto-fill, minmax(280px, 1fr));
			align-items: start;
			padding: 0 20px;
		}
	}
</style>

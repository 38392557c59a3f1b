<script lang="ts">
	import { createInfiniteQuery, createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Adjust from '#lib/ui/Adjust.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PlaceFilter from '#lib/ui/PlaceFilter.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const client = useQueryClient();
	let q = $state(page.url.searchParams.get('q') ?? '');
	let location = $state('');
	let show = $state(page.url.searchParams.get('show') ?? 'all');
	let asAt = $state(page.url.searchParams.get('as_at') ?? '');
	let adjusting = $state<Schemas['StockRow'] | null>(null);
	const wanted = Number(page.url.searchParams.get('adjust') ?? 0);

	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const stock = createInfiniteQuery(() => ({
		queryKey: ['stock', q, location, show, asAt],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/stock', {
					params: {
						query: {
							q,
							show,
							cursor: pageParam,
							limit: 150,
							...(asAt ? { as_at: asAt } : {}),
							...(location ? { location: Number(location) } : {})
						}
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		refetchInterval: 8000
	}));
	const rows = $derived(stock.data?.pages.flatMap((p) => p.rows) ?? []);
	const first = $derived(stock.data?.pages[0]);

	if (wanted) {
		void ask(api.GET('/api/v1/items/{item_id}', { params: { path: { item_id: wanted } } })).then(
			(item) => {
				q = item.sku;
			}
		);
	}
</script>

<Sheet question="What do we hold, and where?" tabs={SHELF_TABS} newPath="/shelf/opening">
	{#snippet lead()}{#if asAt}What had happened by the end of {day(asAt)}, whenever it was heard of:
			the sum of the moves up to then.{:else}Available is on hand less committed. Every underlined
			figure opens its Working.{/if}{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<PlaceFilter bind:value={location} places={places.data} />
		<select class="field" aria-label="Show" bind:value={show}>
			<option value="all">everything</option><option value="held">what is held</option><option
				value="short">owed or below zero</option
			>
		</select>
		<label class="soft small at"
			>as at the end of <input class="field" type="date" bind:value={asAt} /></label
		>
	{/snippet}
	{#if rows.length && asAt}
		<table class="rows">
			<thead
				><tr
					><th>Item</th><th>Location</th><th class="num">On hand then</th><th class="num"
						>Value then, {session.currency}</th
					><th></th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td class="long"
							><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
							<span class="soft small">{row.sku}</span></td
						>
						<td class="place">{row.location}</td>
						<td class="num">{figure(row.on_hand)}</td>
						<td class="num">{figure(row.value)}</td>
						<td class="num"
							><a href="/shelf/moves?item={row.item_id}&location={row.location_id}">Its moves</a
							></td
						>
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={stock} />
	{:else if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Item</th><th>Location</th><th class="num">On hand</th><th class="num">Committed</th
					><th class="num">Available</th><th class="num">Owed</th><th class="num">Incoming</th><th
						class="num">Value {session.currency}</th
					><th>Expires</th><th></th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					{@const key = `${row.item_id}-${row.location_id}`}
					<tr data-row>
						<td class="long"
							><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
							<span class="soft small">{row.sku}</span></td
						>
						<td class="place">{row.location}</td>
						<td class="num"
							><Fig
								value={row.on_hand}
								kind="on-hand"
								id={key}
								tone={row.on_hand.startsWith('-') ? 'madder' : ''}
							/></td
						>
						<td class="num"><Fig value={row.committed} kind="committed" id={key} /></td>
						<td class="num"
							><Fig
								value={row.available}
								kind="available"
								id={key}
								tone={row.available.startsWith('-') ? 'madder' : ''}
							/></td
						>
						<td class="num">{figure(row.backordered)}</td>
						<td class="num"><Fig value={row.incoming} kind="incoming" id={key} /></td>
						<td class="num"><Fig value={row.value} kind="value" id={key} /></td>
						<td class="soft small">{row.expires_on ? day(row.expires_on) : ''}</td>
						<td class="num"
							>{#if session.may('adjust stock')}<button
									class="link"
									onclick={() => (adjusting = row)}>Adjust</button
								>{/if}</td
						>
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={stock} />
	{:else}
		<Pending
			query={stock}
			isEmpty
			empty={show === 'short'
				? 'Nothing is owed or below zero.'
				: 'No stock yet. Take in opening stock with its cost.'}
			first={show === 'short' ? undefined : { text: 'Opening stock', path: '/shelf/opening' }}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(first?.total_rows ?? 0, 'row')}</span>
		<span class="ml-auto"
			>Worth <b class="double">{figure(first ? Number(first.total_value).toFixed(2) : '0')}</b>
			{session.currency}</span
		>
	{/snippet}
</Sheet>
{#if adjusting}
	<Adjust
		row={adjusting}
		onclose={() => (adjusting = null)}
		ondone={() => {
			adjusting = null;
			void client.invalidateQueries();
		}}
	/>
{/if}

<style>
	.at {
		display: flex;
		align-items: center;
		gap: 6px;
		white-space: nowrap;
	}
	.link {
		color: var(--reed);
		cursor: pointer;
		min-height: 24px;
	}
	.link:hover {
		text-decoration: underline;
	}
</style>

<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	let q = $state(page.url.searchParams.get('q') ?? '');
	let kind = $state('');
	const items = createInfiniteQuery(() => ({
		queryKey: ['items', q, kind],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/items', { params: { query: { q, kind, cursor: pageParam, limit: 100 } } })
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before
	}));
	const rows = $derived(items.data?.pages.flatMap((p) => p.rows) ?? []);
</script>

<Sheet question="What do we sell?" tabs={RANGE_TABS} newPath="/range/pairing">
	{#snippet lead()}Products, the items that are counted, and where each is shown.{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="Kind" bind:value={kind}>
			<option value="">all kinds</option><option value="stocked">stocked</option>
			<option value="bundle">bundles</option><option value="service">services</option>
		</select>
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Item</th><th>SKU</th><th>Category</th><th>Supplier</th><th>Barcode</th>
					<th class="num">Price {session.currency}</th><th class="num">Average cost</th><th
						class="num">On hand</th
					><th class="num">Shown in</th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td class="long"><a class="plain-link" href="/range/items/{row.id}">{row.title}</a></td>
						<td class="soft small clip">{row.sku}</td>
						<td class="soft clip">{row.category}</td>
						<td class="soft clip">{row.supplier || (row.kind === 'stocked' ? '–' : row.kind)}</td>
						<td class="soft small">{row.barcode}</td>
						<td class="num">{figure(row.price)}</td>
						<td class="num"
							>{#if row.average_cost}<Fig
									value={Number(row.average_cost).toFixed(2)}
									kind="cost"
									id={`${row.id}`}
								/>{:else}<span class="soft">–</span>{/if}</td
						>
						<td class="num">{row.kind === 'stocked' ? figure(row.on_hand ?? '0') : ''}</td>
						<td class="num">{row.listings || '·'}</td>
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={items} />
	{:else}
		<Pending
			query={items}
			isEmpty
			empty="No item yet. Connect a shop and build the range from its listings."
			first={{ text: 'Connections', path: '/connections' }}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'item')}{items.hasNextPage ? ' and more' : ''}</span
		>{/snippet}
</Sheet>

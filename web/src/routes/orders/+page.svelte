<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	let q = $state(page.url.searchParams.get('q') ?? '');
	let wanted = $state(page.url.searchParams.get('state') ?? 'waiting');
	const orders = createInfiniteQuery(() => ({
		queryKey: ['orders', q, wanted],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/orders', {
					params: { query: { q, state: wanted, cursor: pageParam, limit: 80 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		refetchInterval: 4000
	}));
	const rows = $derived(orders.data?.pages.flatMap((p) => p.rows) ?? []);
	const counts = $derived(orders.data?.pages[0]?.counts ?? {});
	const STATES = ['ready', 'received', 'part-shipped', 'held', 'shipped', 'closed', 'cancelled'];
	const total = $derived(orders.data?.pages[0]?.total);
</script>

<Sheet question={wanted === 'waiting' ? 'What must go out?' : 'What was ordered?'}>
	{#snippet lead()}
		{count(counts['ready'] ?? 0, 'order')} ready to pack, {counts['received'] ?? 0} waiting for goods,
		{counts['held'] ?? 0} held.
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="State" bind:value={wanted}>
			<option value="waiting">still to ship</option><option value="">every order</option>
			{#each STATES as name (name)}<option value={name}>{name}</option>{/each}
		</select>
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Order</th><th>Channel</th><th>Placed</th><th>Customer</th><th>From</th><th>State</th
					><th class="num">Units</th><th class="num">Owed</th><th class="num"
						>Total {session.currency}</th
					><th class="num">Margin</th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td class="clip"><a class="plain-link" href="/orders/{row.id}">{row.number}</a></td>
						<td class="place">{row.channel}</td>
						<td class="place">{moment(row.placed_at)}</td>
						<td class="long">{row.customer || (row.kind === 'till' ? 'over the counter' : '–')}</td>
						<td class="place">{row.location}</td>
						<td title={row.held_because}><Mark state={row.state} /></td>
						<td class="num">{figure(row.units)}</td>
						<td class="num" class:owed={row.owed !== '0'}>{figure(row.owed)}</td>
						<td class="num"><Fig value={row.total} kind="order-total" id={`${row.id}`} /></td>
						<td class="num"
							><Fig
								value={row.margin_percent}
								kind="profit"
								id={`${row.id}`}
								suffix=" %"
								tone={Number(row.margin_percent) < 0 ? 'madder' : ''}
							/></td
						>
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={orders} />
	{:else}
		<Pending
			query={orders}
			isEmpty
			empty={wanted === 'waiting'
				? 'Nothing waits to be shipped.'
				: 'No order yet. Connect a channel and its orders come in here.'}
			first={{ text: 'Connections', path: '/connections' }}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(rows.length, 'order')}{orders.hasNextPage ? ' shown' : ''}</span>
		{#if total}
			<span class="ml-auto"
				>All of these <b class="double">{figure(total)}</b> {session.currency} with tax</span
			>
		{/if}
	{/snippet}
</Sheet>

<style>
	.owed {
		color: var(--ochre);
		font-weight: 600;
	}
</style>

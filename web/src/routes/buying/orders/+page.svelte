<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { count, day, figure, moment } from '#lib/format.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	let q = $state('');
	let wanted = $state(page.url.searchParams.get('state') ?? '');
	const orders = createInfiniteQuery(() => ({
		queryKey: ['purchase-orders', q, wanted],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/purchase-orders', {
					params: { query: { q, state: wanted, cursor: pageParam, limit: 80 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		refetchInterval: 5000
	}));
	const rows = $derived(orders.data?.pages.flatMap((p) => p.rows) ?? []);
	const STATES = [
		'open',
		'draft',
		'sent',
		'acknowledged',
		'part-received',
		'received',
		'cancelled'
	];
</script>

<Sheet question="What have we ordered?" tabs={BUYING_TABS}>
	{#snippet lead()}Drafts are made on the replenishment sheet; open one to send or receive it.{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="State" bind:value={wanted}>
			<option value="">every state</option>
			{#each STATES as name (name)}<option value={name}>{name}</option>{/each}
		</select>
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Order</th><th>Supplier</th><th>For</th><th>State</th><th class="num">Lines</th><th
						>Made</th
					><th>Expected</th><th class="num">Total</th><th></th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td><a class="plain-link" href="/buying/orders/{row.id}">{row.number}</a></td>
						<td>{row.supplier}</td>
						<td class="soft">{row.location}</td>
						<td><Mark state={row.state} /></td>
						<td class="num">{row.lines}</td>
						<td class="soft">{moment(row.made_at)}</td>
						<td
							>{day(row.expected_on)}
							{#if row.late}<Mark state="late" />{/if}</td
						>
						<td class="num">{figure(row.total)}</td>
						<td class="soft small">{row.currency}</td>
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={orders} />
	{:else}
		<Pending
			query={orders}
			isEmpty
			empty="No purchase order here. Select rows on the replenishment sheet to draft one."
			first={{ text: 'Replenishment', path: '/buying' }}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'order')}</span>{/snippet}
</Sheet>

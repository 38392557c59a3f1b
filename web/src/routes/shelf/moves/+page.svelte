<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	let q = $state('');
	const item = Number(page.url.searchParams.get('item') ?? 0);
	const location = Number(page.url.searchParams.get('location') ?? 0);
	const moves = createInfiniteQuery(() => ({
		queryKey: ['moves', q, item, location],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/moves', {
					params: {
						query: {
							q,
							cursor: pageParam,
							limit: 80,
							...(item ? { item } : {}),
							...(location ? { location } : {})
						}
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before
	}));
	const rows = $derived(moves.data?.pages.flatMap((p) => p.rows) ?? []);
</script>

<Sheet question="What moved?" tabs={SHELF_TABS}>
	{#snippet lead()}Moves are never edited; a wrong one is put right by another.{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		{#if item}<a class="quiet" href="/shelf/moves" data-sveltekit-reload>Show all items</a>{/if}
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Happened</th><th>Item</th><th>Location</th><th>Reason</th><th>Document</th><th
						>Lot</th
					><th class="num">Units</th><th class="num">Value {session.currency}</th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td class="place" title="Recorded {moment(row.recorded_at)}"
							>{moment(row.happened_at)}</td
						>
						<td class="long"
							><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
							<span class="soft small">{row.sku}</span></td
						>
						<td class="place">{row.location}</td>
						<td class="long"
							>{row.reason}{#if row.note}<span class="soft small"> {row.note}</span>{/if}</td
						>
						<td class="clip"
							>{#if row.link}<a href={row.link}>{row.document}</a>{:else}<span class="soft"
									>{row.document}</span
								>{/if}</td
						>
						<td class="soft small">{row.lot}</td>
						<td class="num">{figure(row.quantity)}</td>
						<td class="num">{figure(row.value)}</td>
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={moves} />
	{:else}<Pending query={moves} isEmpty empty="Nothing has moved yet." />{/if}
	{#snippet totals()}<span>{count(rows.length, 'move')} shown, newest first</span>{/snippet}
</Sheet>

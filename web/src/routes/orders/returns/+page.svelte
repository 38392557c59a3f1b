<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['ReturnRow'];
	const STATES = [
		['open', 'still to come'],
		['uncredited', 'came, not credited'],
		['expected', 'expected'],
		['part-received', 'part-received'],
		['received', 'received'],
		['cancelled', 'cancelled']
	] as const;
	type State = '' | (typeof STATES)[number][0];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'number', head: 'Return', cell: number, sort: 'number' },
		{ name: 'order', head: 'Order', cell: order, sort: 'order' },
		{ name: 'channel', head: 'Channel', cell: channel },
		{ name: 'customer', head: 'Customer', cell: customer },
		{ name: 'reasons', head: 'Why', cell: why, kind: 'soft' },
		{ name: 'location', head: 'Back to', cell: place, kind: 'place' },
		{ name: 'state', head: 'State', cell: standing, sort: 'state', isGroup: true },
		{ name: 'units', head: 'Units', cell: units, kind: 'num' },
		{ name: 'left', head: 'To come', cell: left, kind: 'num' },
		{ name: 'made_at', head: 'Since', cell: made, kind: 'soft day', sort: 'made' },
		{ name: 'credited', head: `Credited ${session.currency}`, cell: credited, kind: 'num' }
	];
	const sheet = new SheetState(
		'returns',
		'Returns',
		() => COLUMNS,
		{ q: '', state: '', connection: '' },
		page.url.searchParams
	);
	const returns = createInfiniteQuery(() => ({
		queryKey: ['returns', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/returns', {
					params: {
						query: {
							...withIds(sheet.query, 'connection'),
							state: sheet.filters.state as State,
							cursor: pageParam,
							limit: 80
						}
					}
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(returns.data?.pages.flatMap((p) => p.rows) ?? []);
</script>

<Sheet question="What comes back?" tabs={ORDER_TABS}>
	{#snippet lead()}A return begins on its order. What comes is looked at: back to stock at the cost
		at which it left, to the repair bench, or written off.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="State" bind:value={sheet.filters.state}>
			<option value="">every state</option>
			{#each STATES as [name, word] (name)}<option value={name}>{word}</option>{/each}
		</select>
		<SheetTools {sheet} />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={returns} />
	{:else}
		<Pending
			query={returns}
			isEmpty
			empty="Nothing comes back here."
			first={{ text: 'To the orders', path: '/orders?state=shipped' }}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'return')}</span>{/snippet}
</Sheet>

{#snippet number(row: Row)}<a class="plain-link" href="/orders/returns/{row.id}">{row.number}</a
	>{/snippet}
{#snippet order(row: Row)}<a class="plain-link" href="/orders/{row.order_id}">{row.order}</a
	>{/snippet}
{#snippet channel(row: Row)}{row.channel}{/snippet}
{#snippet customer(row: Row)}{row.customer}{/snippet}
{#snippet why(row: Row)}{row.reasons}{/snippet}
{#snippet standing(row: Row)}<Mark state={row.state} ofGoods />{/snippet}
{#snippet units(row: Row)}{figure(row.units)}{/snippet}
{#snippet left(row: Row)}{figure(row.left)}{/snippet}
{#snippet place(row: Row)}{row.location}{/snippet}
{#snippet made(row: Row)}{moment(row.made_at)}{/snippet}
{#snippet credited(row: Row)}{Number(row.credited) ? figure(row.credited) : '–'}{/snippet}

<script lang="ts">
	import { createInfiniteQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure, moment } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['OrderRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'number', head: 'Order', cell: number, kind: 'clip', sort: 'number' },
		{ name: 'channel', head: 'Channel', cell: channel, kind: 'place' },
		{ name: 'placed_at', head: 'Placed', cell: placed, kind: 'place day', sort: 'placed' },
		{ name: 'send_by', head: 'Send by', cell: sendBy, kind: 'place' },
		{ name: 'customer', head: 'Customer', cell: customer, kind: 'long' },
		{ name: 'location', head: 'From', cell: from, kind: 'place' },
		{ name: 'handled_by', head: 'Handled by', cell: handler, kind: 'place', isSpare: true },
		{ name: 'state', head: 'State', cell: standing },
		{
			name: 'held_because',
			head: 'Reason held',
			cell: heldBecause,
			kind: 'long',
			isSpare: true
		},
		{ name: 'units', head: 'Units', cell: units, kind: 'num' },
		{ name: 'backordered', head: 'Backordered', cell: owed, kind: 'num' },
		{ name: 'promised_on', head: 'Promised', cell: promised, kind: 'place', isSpare: true },
		{
			name: 'total',
			head: `Total ${session.currency}`,
			cell: total,
			kind: 'num',
			sort: 'total',
			title: 'With tax'
		},
		{
			name: 'margin',
			head: 'Margin',
			cell: margin,
			kind: 'num',
			fields: [['margin_percent', 'Margin %']]
		}
	];
	const sheet = new SheetState(
		'orders',
		'Orders',
		() => COLUMNS,
		{ q: '', state: 'waiting', handler: '' },
		page.url.searchParams
	);
	const wanted = $derived(sheet.filters.state);
	const orders = createInfiniteQuery(() => ({
		queryKey: ['orders', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/orders', {
					params: { query: { ...sheet.query, cursor: pageParam, limit: 80 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(orders.data?.pages.flatMap((p) => p.rows) ?? []);
	const counts = $derived(orders.data?.pages[0]?.counts ?? {});
	const STATES = ['ready', 'received', 'part-shipped', 'held', 'shipped', 'closed', 'cancelled'];
	const sum = $derived(orders.data?.pages[0]?.total);
</script>

<Sheet
	question={['waiting', 'due'].includes(wanted ?? '')
		? 'What must go out?'
		: wanted === 'back'
			? 'What goes back on the shelf?'
			: 'What was ordered?'}
	tabs={ORDER_TABS}
>
	{#snippet lead()}
		{count(counts['ready'] ?? 0, 'order')} ready to pack, {counts['received'] ?? 0} waiting for goods,
		{counts['held'] ?? 0} held.
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="State" bind:value={sheet.filters.state}>
			<option value="waiting">still to ship</option><option value="due">has to leave today</option
			><option value="back">goods to put back</option><option value="">every order</option>
			{#each STATES as name (name)}<option value={name}>{name}</option>{/each}
		</select>
		<select class="field" aria-label="Handled by" bind:value={sheet.filters.handler}>
			<option value="">everybody’s</option><option value="me">mine</option>
			{#if sheet.filters.handler && sheet.filters.handler !== 'me'}<option
					value={sheet.filters.handler}>{sheet.filters.handler}’s</option
				>{/if}
		</select>
		<SheetTools {sheet} />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={orders} />
	{:else}
		<Pending
			query={orders}
			isEmpty
			empty={wanted === 'due'
				? 'Nothing has to leave today.'
				: wanted === 'waiting'
					? 'Nothing waits to be shipped.'
					: wanted === 'back'
						? 'No cancelled order has goods to put back.'
						: 'No order yet. Connect a channel and its orders come in here.'}
			first={wanted === 'back'
				? { text: 'Every order', path: '/orders?state=' }
				: { text: 'Connections', path: '/connections' }}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(rows.length, 'order')}{orders.hasNextPage ? ' shown' : ''}</span>
		{#if sum}
			<span class="ml-auto"
				>All of these <b class="double">{figure(sum)}</b> {session.currency} with tax</span
			>
		{/if}
	{/snippet}
</Sheet>

{#snippet number(row: Row)}<a class="plain-link" href="/orders/{row.id}">{row.number}</a>{/snippet}
{#snippet channel(row: Row)}{row.channel}{/snippet}
{#snippet placed(row: Row)}{moment(row.placed_at)}{/snippet}
{#snippet sendBy(row: Row)}{#if row.send_by}<span
			class:owed={row.due === 'today'}
			class:late={row.due === 'late'}
			>{row.due === 'today'
				? 'today'
				: `${row.due === 'late' ? 'late, ' : ''}${day(row.send_by)}`}</span
		>{:else}–{/if}{/snippet}
{#snippet customer(row: Row)}{row.customer || (row.kind === 'till' ? 'in store' : '–')}{/snippet}
{#snippet from(row: Row)}{row.location}{/snippet}
{#snippet handler(row: Row)}{row.handled_by || '–'}{/snippet}
{#snippet standing(row: Row)}<span title={row.held_because}><Mark state={row.state} /></span
	>{/snippet}
{#snippet heldBecause(row: Row)}{row.held_because}{/snippet}
{#snippet units(row: Row)}{figure(row.units)}{/snippet}
{#snippet owed(row: Row)}<span class:owed={row.backordered !== '0'}>{figure(row.backordered)}</span
	>{#if row.promised_on}<span class="soft small block">by {day(row.promised_on)}</span
		>{/if}{/snippet}
{#snippet promised(row: Row)}{row.promised_on ? day(row.promised_on) : '–'}{/snippet}
{#snippet total(row: Row)}<Fig value={row.total} kind="order-total" id={`${row.id}`} />{/snippet}
{#snippet margin(row: Row)}<Fig
		value={row.margin_percent}
		kind="profit"
		id={`${row.id}`}
		suffix=" %"
		tone={Number(row.margin_percent) < 0 ? 'madder' : ''}
	/>{/snippet}

<style>
	.owed {
		color: var(--ochre);
		font-weight: 600;
	}
	.late {
		color: var(--madder);
		font-weight: 600;
	}
</style>

<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SheetState, withIds, type Column } from '#lib/sheet.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import CustomerForm from '#lib/ui/CustomerForm.svelte';
	import CustomerGroups from '#lib/ui/CustomerGroups.svelte';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rows from '#lib/ui/Rows.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	type Row = Schemas['CustomerRow'];
	const COLUMNS: readonly Column<Row>[] = [
		{ name: 'name', head: 'Customer', cell: name, kind: 'long', sort: 'name' },
		{ name: 'email', head: 'Mail', cell: email, kind: 'soft clip' },
		{ name: 'group', head: 'Group', cell: group, kind: 'clip' },
		{ name: 'price_list', head: 'Price list', cell: priceList, kind: 'soft clip' },
		{ name: 'on_account', head: 'Pays', cell: pays, kind: 'soft' },
		{ name: 'orders', head: 'Orders in a year', cell: orders, kind: 'num' },
		{
			name: 'net',
			head: `Bought ${session.currency}`,
			cell: net,
			kind: 'num',
			title: 'Net of tax, in a year'
		},
		{ name: 'last_at', head: 'Last order', cell: last, kind: 'soft day' }
	];
	const sheet = new SheetState(
		'customers',
		'Customers',
		() => COLUMNS,
		{ q: '', group: '' },
		page.url.searchParams
	);
	const customers = createInfiniteQuery(() => ({
		queryKey: ['customers', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/customers', {
					params: { query: { ...withIds(sheet.query, 'group'), cursor: pageParam, limit: 100 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const groups = createQuery(() => ({
		queryKey: ['customer groups'],
		queryFn: () => ask(api.GET('/api/v1/customer-groups'))
	}));
	const rows = $derived(customers.data?.pages.flatMap((p) => p.rows) ?? []);
	let opened = $state<'' | 'new' | 'groups'>(page.url.searchParams.has('new') ? 'new' : '');
</script>

<Sheet question="Who buys from us?" tabs={ORDER_TABS} newPath="/orders/customers?new">
	{#snippet lead()}Customers come with their orders, or are added here. A customer’s own price list
		speaks before the group’s.{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Group" bind:value={sheet.filters.group}>
			<option value="">every group</option>
			{#each groups.data ?? [] as one (one.id)}<option value={`${one.id}`}
					>{one.name} ({one.customers})</option
				>{/each}
		</select>
		{#if session.may('keep customers')}<button class="do" onclick={() => (opened = 'new')}
				>New customer</button
			>{/if}
		<button class="quiet" onclick={() => (opened = 'groups')}>Groups</button>
		<SheetTools {sheet} intake="customers" />
	{/snippet}
	{#if rows.length}
		<Rows {sheet} {rows} key={(row) => row.id} />
		<More query={customers} />
	{:else}<Pending
			query={customers}
			isEmpty
			empty="No customer like that. They come in with orders of the web shop."
			first={{ text: 'Orders', path: '/orders' }}
		/>{/if}
	{#snippet totals()}<span
			>{count(rows.length, 'customer')}{customers.hasNextPage ? ' and more' : ''}</span
		>{/snippet}
</Sheet>
<Dialogue isOpen={opened === 'new'} title="A new customer" onclose={() => (opened = '')}>
	{#if opened === 'new'}<CustomerForm
			customer={null}
			onkept={(made) => {
				opened = '';
				void goto(`/orders/customers/${made.id}`);
			}}
		/>{/if}
</Dialogue>
<Dialogue
	wide
	isOpen={opened === 'groups'}
	title="Groups of customers"
	onclose={() => (opened = '')}
>
	{#if opened === 'groups'}<CustomerGroups />{/if}
</Dialogue>

{#snippet name(row: Row)}<a class="plain-link" href="/orders/customers/{row.id}">{row.name}</a
	>{/snippet}
{#snippet email(row: Row)}{row.email}{/snippet}
{#snippet group(row: Row)}{row.group}{/snippet}
{#snippet priceList(row: Row)}{row.price_list || 'base prices'}{/snippet}
{#snippet pays(row: Row)}{row.on_account ? 'on account' : 'at once'}{/snippet}
{#snippet orders(row: Row)}{figure(`${row.orders}`)}{/snippet}
{#snippet net(row: Row)}{figure(row.net)}{/snippet}
{#snippet last(row: Row)}{day(row.last_at)}{/snippet}

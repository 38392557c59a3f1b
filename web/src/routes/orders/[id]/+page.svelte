<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, onceKey } from '#lib/api/client.ts';
	import { ago, day, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';

	const client = useQueryClient();
	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { order_id: id } });
	const order = createQuery(() => ({
		queryKey: ['order', id],
		queryFn: () => ask(api.GET('/api/v1/orders/{order_id}', { params })),
		refetchInterval: 4000
	}));
	const data = $derived(order.data);
	let typedCarrier = $state<string | null>(null);
	const carrier = $derived(typedCarrier ?? (data?.carrier || 'Packhorse'));
	let tracking = $state('');
	let typed = $state<Record<number, string>>({});
	let refusal = $state('');
	let busy = $state(false);
	let key = onceKey();

	const canShip = $derived(
		data !== undefined &&
			['ready', 'received', 'part-shipped'].includes(data.state) &&
			session.may('ship orders')
	);
	const quantity = (line: { id: number; ready: string }): string => typed[line.id] ?? line.ready;

	async function act(work: () => Promise<{ said: string }>): Promise<void> {
		busy = true;
		refusal = '';
		try {
			notices.say((await work()).said);
			typed = {};
			key = onceKey();
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
		await client.invalidateQueries();
	}

	function ship(): Promise<void> {
		const quantities = Object.fromEntries(
			(data?.lines ?? [])
				.filter((line) => ['item', 'service'].includes(line.kind) && Number(quantity(line)) > 0)
				.map((line) => [`${line.id}`, quantity(line)])
		);
		return act(() =>
			ask(
				api.POST('/api/v1/orders/{order_id}/ship', {
					params,
					body: { quantities, carrier, tracking },
					headers: { 'Idempotency-Key': key }
				})
			)
		);
	}
</script>

<Sheet question={data ? `Order ${data.number}` : 'Order'} tabs={ORDER_TABS}>
	{#snippet lead()}
		{#if data}
			{data.channel} · {#if data.customer_id}<a href="/orders/customers/{data.customer_id}"
					>{data.customer}</a
				>{:else}in store{/if}{data.ship_to ? `, ${data.ship_to}` : ''} · placed
			{moment(data.placed_at)} · from {data.location} · {data.paid
				? 'paid'
				: data.payments.some((one) => one.state === 'authorised')
					? 'charged when it leaves'
					: 'not paid'}
		{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} note={data.held_because} />
			{#if data.state === 'held' && session.may('resolve snags and drifts')}
				<button
					class="quiet"
					disabled={busy}
					onclick={() => act(() => ask(api.POST('/api/v1/orders/{order_id}/release', { params })))}
					>Release it</button
				>
			{/if}
			{#if ['ready', 'received'].includes(data.state) && session.may('ship orders')}
				<button
					class="quiet"
					disabled={busy}
					onclick={() =>
						act(() =>
							ask(
								api.POST('/api/v1/orders/{order_id}/hold', {
									params,
									body: { why: `held by ${session.me?.name}` }
								})
							)
						)}>Hold it</button
				>
			{/if}
		{/if}
	{/snippet}
	{#if data}
		<table class="rows">
			<thead
				><tr
					><th>Line</th><th>Kind</th><th class="num">Ordered</th><th class="num">Reserved</th><th
						class="num">Backordered</th
					><th class="num">Shipped</th>{#if canShip}<th class="num">Ship now</th>{/if}<th
						class="num">Net</th
					><th class="num">Tax</th><th class="num">With tax {session.currency}</th></tr
				></thead
			>
			<tbody>
				{#each data.lines as line (line.id)}
					{@const goods = ['item', 'service'].includes(line.kind)}
					<tr data-row>
						<td
							>{#if line.item_id}<Thumb picture={line.picture} /><a
									class="plain-link"
									href="/range/items/{line.item_id}">{line.title}</a
								>{:else}{line.title}{/if}
							<span class="soft small">{line.sku}</span>
							{#if line.promised_on && line.backordered !== '0'}<span class="owed small block"
									>{figure(line.backordered)} to come, promised by {day(line.promised_on)}</span
								>{:else if line.backordered !== '0'}<span class="owed small block"
									>{figure(line.backordered)} to come</span
								>{/if}</td
						>
						<td class="soft">{line.kind}</td>
						{#if line.fault}<Faulty said={line.fault} span={canShip ? 8 : 7} />{:else}
							<td class="num">{goods ? figure(line.quantity) : ''}</td>
							<td class="num">{goods ? figure(line.reserved) : ''}</td>
							<td class="num" class:owed={line.backordered !== '0'}
								>{goods ? figure(line.backordered) : ''}</td
							>
							<td class="num">{goods ? figure(line.shipped) : ''}</td>
							{#if canShip}<td class="num"
									>{#if goods}<input
											class="field ship"
											inputmode="decimal"
											aria-label="Ship {line.title}"
											value={quantity(line)}
											oninput={(event) =>
												(typed = { ...typed, [line.id]: event.currentTarget.value })}
										/>{/if}</td
								>{/if}
							<td class="num">{figure(line.net)}</td>
							<td class="num soft">{figure(line.tax)}</td>
							<td class="num">{figure(line.gross)}</td>
						{/if}
					</tr>
				{/each}
			</tbody>
		</table>
		{#if data.payments.length}
			<h2>Paid by</h2>
			<table class="rows fit" aria-label="Payments">
				<thead
					><tr
						><th>Method</th><th>State</th><th class="num">Amount {data.currency}</th><th class="num"
							>Charged</th
						><th>Settles through</th></tr
					></thead
				>
				<tbody>
					{#each data.payments as one (one.id)}<tr data-row
							><td>{one.method.replaceAll('_', ' ')}</td><td
								><Mark state={one.state} note={one.told ? '' : 'the channel is being told'} /></td
							><td class="num">{figure(one.amount)}</td><td class="num"
								>{one.state === 'paid' && one.charged === '0.00' ? '' : figure(one.charged)}</td
							><td class="soft">{one.account}</td></tr
						>{/each}
				</tbody>
			</table>
		{/if}
		{#if data.shipments.length}
			<h2>Shipped</h2>
			<table class="rows">
				<thead
					><tr
						><th>Shipment and invoice</th><th>When</th><th>Carrier</th><th>Tracking</th><th
							>Sent to channel</th
						><th>Ledger</th><th class="num">Cost</th><th class="num">Invoice {session.currency}</th
						></tr
					></thead
				>
				<tbody>
					{#each data.shipments as shipment (shipment.id)}
						<tr data-row
							><td>{shipment.number}</td><td class="soft">{moment(shipment.shipped_at)}</td><td
								>{shipment.carrier || '–'}</td
							><td class="soft">{shipment.tracking || '–'}</td><td class="soft"
								>{data.kind === 'till'
									? 'in store'
									: shipment.told_channel_at
										? ago(shipment.told_channel_at)
										: 'not yet'}</td
							><td
								>{#if shipment.ledger_state === 'none'}<span class="soft"
										>in the month’s summary</span
									>{:else}<Mark state={shipment.ledger_state} />{/if}</td
							><td class="num">{figure(shipment.cost)}</td><td class="num"
								>{figure(shipment.invoice_total)}</td
							></tr
						>
					{/each}
				</tbody>
			</table>
		{/if}
	{:else}<Pending query={order} />{/if}
	{#snippet totals()}
		{#if data}
			{#if canShip}
				<label class="soft"
					>Carrier <input
						class="field w-[110px]"
						value={carrier}
						oninput={(event) => (typedCarrier = event.currentTarget.value)}
					/></label
				>
				<label class="soft">Tracking <input class="field w-[130px]" bind:value={tracking} /></label>
				<button class="do" disabled={busy} onclick={ship}>Ship</button>
			{/if}
			<span class="bad" role="alert">{refusal}</span>
			<span class="ml-auto"
				>Contribution <Fig value={data.contribution} kind="profit" id={`${data.id}`} />
				<span class="soft">{data.margin_percent ?? '–'} %</span></span
			>
			<span
				>Total <b class="double"><Fig value={data.total} kind="order-total" id={`${data.id}`} /></b>
				{data.currency}</span
			>
		{/if}
	{/snippet}
</Sheet>

<style>
	h2 {
		padding: 20px 20px 4px;
	}
	.fit {
		width: auto;
		min-width: 620px;
	}
	.ship {
		width: 64px;
		text-align: right;
	}
	.owed {
		color: var(--ochre);
		font-weight: 600;
	}
	.bad {
		color: var(--madder);
	}
</style>

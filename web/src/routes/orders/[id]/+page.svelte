<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, onceKey } from '#lib/api/client.ts';
	import { ago, day, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import CancelOrder from '#lib/ui/CancelOrder.svelte';
	import Credits from '#lib/ui/Credits.svelte';
	import Faulty from '#lib/ui/Faulty.svelte';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';
	import TimeLine from '#lib/ui/TimeLine.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';

	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { order_id: id } });
	const order = createQuery(() => ({
		queryKey: ['order', id],
		queryFn: () => ask(api.GET('/api/v1/orders/{order_id}', { params }))
	}));
	const data = $derived(order.data);
	let typedCarrier = $state<string | null>(null);
	const carrier = $derived(typedCarrier ?? (data?.carrier || 'Packhorse'));
	let tracking = $state('');
	let typed = $state<Record<number, string>>({});
	let refusal = $state('');
	let busy = $state(false);
	let isCancelling = $state(false);
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
		await changed();
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
			<a href="/connections/{data.connection_id}">{data.channel}</a> · placed {moment(
				data.placed_at
			)}
			· from {data.location}{data.handled_by
				? ` · handled by ${data.handled_by}`
				: ''}{data.shipping_method ? ` · ${data.shipping_method}` : ''}{data.send_by
				? ` · to leave by ${day(data.send_by)}`
				: ''}{Number(data.penalty)
				? ` · ${figure(data.penalty)} charged for ${data.state === 'cancelled' ? 'cancelling it' : 'being late'}`
				: ''}
		{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} note={data.held_because || data.cancelled_because} />
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
			{#if data.if_cancelled.length && session.may('ship orders')}
				<button class="quiet" disabled={busy} onclick={() => (isCancelling = true)}
					>Cancel it</button
				>
			{/if}
			{#if data.state === 'cancelled' && data.lines.some((line) => Number(line.reserved) > 0)}
				{#if session.may('ship orders')}<button
						class="do"
						disabled={busy}
						onclick={() =>
							act(() => ask(api.POST('/api/v1/orders/{order_id}/put-back', { params })))}
						>Goods are back on the shelf</button
					>{:else}<span class="soft">its goods are to be put back</span>{/if}
			{/if}
			{#if data.lines.some((line) => Number(line.can_return) > 0) && session.may('receive goods')}<a
					class="quiet"
					href="/orders/{data.id}/return">Take goods back</a
				>{/if}
			{#if data.shipments.length && session.may('keep the books')}<a
					class="quiet"
					href="/orders/{data.id}/credit">Credit</a
				>{/if}
		{/if}
	{/snippet}
	{#if data}
		<Thing>
			<table class="rows">
				<thead
					><tr
						><th>Line</th><th>Kind</th><th class="num">Ordered</th><th class="num">Reserved</th><th
							class="num">Backordered</th
						><th class="num">Shipped</th>{#if data.returns.length}<th class="num">Back</th
							>{/if}{#if canShip}<th class="num">Ship now</th>{/if}<th class="num">Net</th><th
							class="num">Tax</th
						><th class="num">With tax {session.currency}</th></tr
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
							{#if line.fault}<Faulty
									said={line.fault}
									span={(canShip ? 8 : 7) + (data.returns.length ? 1 : 0)}
								/>{:else}
								<td class="num">{goods ? figure(line.quantity) : ''}</td>
								<td class="num">{goods ? figure(line.reserved) : ''}</td>
								<td class="num" class:owed={line.backordered !== '0'}
									>{goods ? figure(line.backordered) : ''}</td
								>
								<td class="num">{goods ? figure(line.shipped) : ''}</td>
								{#if data.returns.length}<td class="num"
										>{Number(line.returned) ? figure(line.returned) : ''}</td
									>{/if}
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
			{#if data.shipments.length}
				<h2>Shipped</h2>
				<table class="rows">
					<thead
						><tr
							><th>Shipment and invoice</th><th>When</th><th>Carrier</th><th>Tracking</th><th
								>Sent to channel</th
							><th>Ledger</th><th class="num">Cost</th><th class="num"
								>Invoice {session.currency}</th
							></tr
						></thead
					>
					<tbody>
						{#each data.shipments as shipment (shipment.id)}
							<tr data-row
								><td
									><a href="/orders/documents/shipment/{shipment.id}">{shipment.number}</a>
									<a
										class="small paper"
										href="/api/v1/documents/shipment/{shipment.id}/forms/slip"
										target="_blank"
										rel="noreferrer">slip</a
									>
									{#if shipment.ledger_state !== 'none'}<a
											class="small paper"
											href="/api/v1/documents/invoice/{shipment.invoice_id}/forms/invoice"
											target="_blank"
											rel="noreferrer">invoice</a
										>{/if}</td
								><td class="soft">{moment(shipment.shipped_at)}</td><td
									>{shipment.carrier || '–'}</td
								><td class="soft">{shipment.tracking || '–'}</td><td class="soft"
									>{data.kind === 'till'
										? 'in store'
										: shipment.told_channel_at
											? ago(shipment.told_channel_at)
											: shipment.is_told
												? 'not yet'
												: 'not told, by rule'}</td
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
			{#if data.returns.length}
				<h2>Comes back</h2>
				<table class="rows">
					<thead
						><tr
							><th>Return</th><th>Since</th><th>State</th><th class="num">Units</th><th class="num"
								>To come</th
							></tr
						></thead
					>
					<tbody>
						{#each data.returns as back (back.id)}
							<tr data-row
								><td><a href="/orders/returns/{back.id}">{back.number}</a></td><td class="soft"
									>{moment(back.made_at)}</td
								><td><Mark state={back.state} ofGoods /></td><td class="num"
									>{figure(back.units)}</td
								><td class="num">{figure(back.left)}</td></tr
							>
						{/each}
					</tbody>
				</table>
			{/if}
			{#if data.credits.length}
				<h2>Given back</h2>
				<Credits rows={data.credits} channel={data.channel} />
			{/if}
			<section>
				<h2>What happened</h2>
				<TimeLine history={data.history} ahead={data.then} />
			</section>
			{#snippet side()}
				<section>
					<h2>
						{#if data.customer_id}<a href="/orders/customers/{data.customer_id}">{data.customer}</a
							>{:else}{data.kind === 'till' ? 'In store' : 'No name'}{/if}
					</h2>
					<dl>
						{#if data.ship_to}<dt>Ship to</dt>
							<dd>{data.ship_to}</dd>{/if}
						{#if data.email}<dt>Mail</dt>
							<dd>{data.email}</dd>{/if}
						{#if data.customer_id}<dt>Orders</dt>
							<dd>{data.customer_orders}</dd>{/if}
						{#if data.also_open.length}<dt>Also open</dt>
							<dd>
								{#each data.also_open as one (one.id)}<span class="block"
										><a href="/orders/{one.id}">{one.number}</a>
										{one.state}, {figure(one.total)}</span
									>{/each}
							</dd>{/if}
					</dl>
				</section>
				<section>
					<h2>Money</h2>
					<table class="sum" aria-label="Money">
						<tbody>
							<tr><td>Without tax</td><td class="num">{figure(data.net)}</td></tr>
							<tr><td>Tax</td><td class="num">{figure(data.tax)}</td></tr>
							<tr class="total"
								><td>Charged {data.currency}</td><td class="num"
									><Fig value={data.total} kind="order-total" id={`${data.id}`} /></td
								></tr
							>
						</tbody>
					</table>
					{#if data.stated_total !== null}<p class="soft small">
							{figure(data.stated_total)}
							{data.stated_currency} at {Number(data.rate)} for one {data.currency}, the rate of {day(
								data.placed_at
							)}
						</p>{/if}
					{#if data.payments.length}
						<table class="sum paid" aria-label="Payments">
							<tbody>
								{#each data.payments as one (one.id)}<tr data-row
										><td
											>{one.method.replaceAll('_', ' ')}
											<Mark
												state={one.state}
												note={one.told ? '' : 'the channel is being told'}
											/><span class="soft small block">{one.account}</span></td
										><td class="num"
											>{figure(
												one.amount
											)}{#if one.charged !== '0.00' && one.state === 'authorised'}<span
													class="soft small block">{figure(one.charged)} charged</span
												>{/if}</td
										></tr
									>{/each}
							</tbody>
						</table>
					{:else}<p class="soft">
							{data.state === 'cancelled' && !data.shipments.length
								? 'Cancelled: nothing is owed.'
								: data.paid
									? 'Paid.'
									: 'On account: nothing is paid yet.'}
						</p>{/if}
				</section>
				<section>
					<h2>What it earns</h2>
					<table class="sum" aria-label="What it earns">
						<tbody>
							<tr
								><td
									>Charged without tax{#if data.credits.length}<span class="soft small"
											>, less credits</span
										>{/if}</td
								><td class="num">{figure(data.charged, '–')}</td></tr
							>
							<tr
								><td>Cost of goods <span class="soft small">moving average</span></td><td
									class="num">{data.cost === null ? '–' : `− ${figure(data.cost, '0.00')}`}</td
								></tr
							>
							<tr
								><td>Channel fees</td><td class="num"
									>{data.fees === null ? '–' : `− ${figure(data.fees, '0.00')}`}</td
								></tr
							>
							<tr class="total"
								><td>Contribution</td><td class="num"
									><Fig value={data.contribution} kind="profit" id={`${data.id}`} /></td
								></tr
							>
						</tbody>
					</table>
					<p class="soft small">{data.margin_percent ?? '–'} % of what was charged</p>
				</section>
			{/snippet}
		</Thing>
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
				>Contribution {figure(data.contribution)}
				<span class="soft">{data.margin_percent ?? '–'} %</span></span
			>
			<span>Total <b class="double">{figure(data.total)}</b> {data.currency}</span>
		{/if}
	{/snippet}
</Sheet>

{#if data && isCancelling}<CancelOrder order={data} onclose={() => (isCancelling = false)} />{/if}

<style>
	.paid {
		margin-top: 8px;
	}
	.paper {
		display: inline-block;
		min-width: 24px;
		line-height: 24px;
		margin-left: 6px;
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

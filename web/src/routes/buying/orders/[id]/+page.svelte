<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { day, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import { Typing } from '#lib/typing.svelte.ts';
	import AddLine from '#lib/ui/AddLine.svelte';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Overtaken from '#lib/ui/Overtaken.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';
	import TimeLine from '#lib/ui/TimeLine.svelte';

	type Typed = {
		quantity?: string;
		price?: string;
		arrived?: string;
		lot?: string;
		expires?: string;
	};
	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { order_id: id } });
	const order = createQuery(() => ({
		queryKey: ['purchase-order', id],
		queryFn: () => ask(api.GET('/api/v1/purchase-orders/{order_id}', { params }))
	}));
	const data = $derived(order.data);
	const isDraft = $derived(data?.state === 'draft');
	const isOpen = $derived(['sent', 'acknowledged', 'part-received'].includes(data?.state ?? ''));
	const haveLots = $derived(!!data?.lines.some((line) => line.expiry_tracked));
	const mayBuy = $derived(session.may('buy'));
	const mayReceive = $derived(session.may('receive goods'));
	let typed = $state<Record<number, Typed>>({});
	let refusal = $state('');
	let busy = $state(false);
	let key = onceKey();
	const typing = new Typing(() => data?.version);
	const isEdited = $derived(
		Object.values(typed).some((t) => t.quantity !== undefined || t.price !== undefined)
	);

	const isOvertaken = $derived(isEdited && typing.isOvertaken);

	function type(line: number, change: Typed): void {
		typing.begin();
		typed = { ...typed, [line]: { ...typed[line], ...change } };
	}

	async function act(said: string, work: () => Promise<unknown>): Promise<boolean> {
		busy = true;
		refusal = '';
		let done = false;
		try {
			await work();
			notices.say(said);
			drop();
			key = onceKey();
			done = true;
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
		await changed();
		return done;
	}

	function drop(): void {
		typed = {};
		typing.end();
	}

	function lines(
		rows: Schemas['PurchaseLineOut'][]
	): { id: number; quantity: string; price: string }[] {
		return rows.map((row) => ({
			id: row.id,
			quantity: typed[row.id]?.quantity ?? row.quantity,
			price: typed[row.id]?.price ?? row.price
		}));
	}

	const save = (): Promise<boolean> =>
		act('Saved.', () =>
			ask(
				api.PATCH('/api/v1/purchase-orders/{order_id}', {
					params,
					body: { version: typing.version, lines: lines(data?.lines ?? []) }
				})
			)
		);
	const version = (): { version: number } => ({ version: data?.version ?? 0 });
	const send = (): Promise<boolean> =>
		act('Sent.', () =>
			ask(api.POST('/api/v1/purchase-orders/{order_id}/send', { params, body: version() }))
		);
	const cancel = (): Promise<boolean> =>
		act('Cancelled.', () =>
			ask(api.POST('/api/v1/purchase-orders/{order_id}/cancel', { params, body: version() }))
		);
	const receive = (): Promise<boolean> =>
		act('Received.', () =>
			ask(
				api.POST('/api/v1/purchase-orders/{order_id}/receive', {
					params,
					headers: { 'Idempotency-Key': key },
					body: {
						lines: (data?.lines ?? [])
							.filter((line) => Number(typed[line.id]?.arrived ?? 0) > 0)
							.map((line) => ({
								line_id: line.id,
								quantity: typed[line.id]?.arrived ?? '0',
								lot: typed[line.id]?.lot ?? '',
								...(typed[line.id]?.expires ? { expires_on: typed[line.id]?.expires } : {})
							}))
					}
				})
			)
		);

	function all(): void {
		for (const line of data?.lines ?? []) {
			const left = Number(line.quantity) - Number(line.received);
			if (left > 0) type(line.id, { arrived: `${left}` });
		}
	}
</script>

<Sheet question={data ? `${data.number} to ${data.supplier}` : 'Purchase order'} tabs={BUYING_TABS}>
	{#snippet lead()}
		{#if data}
			for {data.location} · expected {day(data.expected_on)} ·
			{#if isDraft}not sent yet{:else if data.acknowledged_at}answered {moment(
					data.acknowledged_at
				)}, {data.supplier_reference}
			{:else if data.delivered_at}in the supplier’s inbox since {moment(data.delivered_at)}
			{:else if data.has_inbox}on its way to the supplier{:else}send the PDF by mail: this supplier
				has no inbox here{/if}
			{#if data.supplier_note}· “{data.supplier_note}”{/if}
		{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} ofGoods />
			<a
				class="quiet"
				href="/api/v1/documents/purchase-order/{data.id}/forms/order"
				target="_blank"
				rel="noreferrer">PDF</a
			>
			<a class="quiet" href="/api/v1/purchase-orders/{data.id}/ubl" download>UBL</a>
			{#if mayBuy && (isDraft || isOpen)}<button class="quiet" disabled={busy} onclick={cancel}
					>Cancel the order</button
				>{/if}
		{/if}
	{/snippet}
	{#if data}
		{#if isOvertaken}
			<Overtaken onkeep={() => typing.keep()} ontake={drop} />
		{/if}
		<Thing>
			<table class="rows">
				<thead
					><tr
						><th>Item</th><th>Supplier SKU</th><th class="num">Ordered</th><th class="num"
							>Confirmed</th
						><th class="num">Received</th>{#if isOpen && mayReceive}<th class="num">Receive now</th
							>{#if haveLots}<th>Lot and expiry</th>{/if}{/if}<th class="num"
							>Price {data.currency}</th
						><th class="num">Line {data.currency}</th></tr
					></thead
				>
				<tbody>
					{#each data.lines as line (line.id)}
						<tr data-row>
							<td
								><Thumb picture={line.picture} /><a
									class="plain-link"
									href="/range/items/{line.item_id}">{line.title}</a
								>
								<span class="soft small">{line.sku}</span></td
							>
							{#if line.fault}<Faulty said={line.fault} span={9} />{:else}
								<td class="soft small">{line.supplier_code}</td>
								<td class="num"
									>{#if isDraft && mayBuy}<input
											class="field qty"
											inputmode="decimal"
											aria-label="Quantity of {line.title}"
											value={typed[line.id]?.quantity ?? line.quantity}
											oninput={(e) => type(line.id, { quantity: e.currentTarget.value })}
										/>{:else if line.has_working}<Fig
											value={line.quantity}
											kind="purchase-line"
											id={`${line.id}`}
										/>{:else}{figure(line.quantity)}{/if}</td
								>
								<td
									class="num"
									class:differs={line.confirmed !== null && line.confirmed !== line.quantity}
									>{line.confirmed === null ? '–' : figure(line.confirmed)}</td
								>
								<td class="num">{figure(line.received)}</td>
								{#if isOpen && mayReceive}
									<td class="num"
										><input
											class="field qty"
											inputmode="decimal"
											aria-label="Arrived of {line.title}"
											value={typed[line.id]?.arrived ?? ''}
											oninput={(e) => type(line.id, { arrived: e.currentTarget.value })}
										/></td
									>
									{#if haveLots}<td
											>{#if line.expiry_tracked}<input
													class="field w-[84px]"
													placeholder="lot"
													aria-label="Lot of {line.title}"
													value={typed[line.id]?.lot ?? ''}
													oninput={(e) => type(line.id, { lot: e.currentTarget.value })}
												/>
												<input
													class="field"
													type="date"
													aria-label="Expiry of {line.title}"
													value={typed[line.id]?.expires ?? ''}
													oninput={(e) => type(line.id, { expires: e.currentTarget.value })}
												/>{#if line.expires_about && !typed[line.id]?.expires}<button
														type="button"
														class="quiet small"
														title="By how long it keeps. What is printed on the lot counts."
														onclick={() => type(line.id, { expires: line.expires_about ?? '' })}
														>about {day(line.expires_about)}</button
													>{/if}{/if}</td
										>{/if}
								{/if}
								<td class="num"
									>{#if isDraft && mayBuy}<input
											class="field qty"
											inputmode="decimal"
											aria-label="Price of {line.title}"
											value={typed[line.id]?.price ?? line.price}
											oninput={(e) => type(line.id, { price: e.currentTarget.value })}
										/>{:else}{figure(line.price)}{/if}</td
								>
								<td class="num">{figure(line.amount)}</td>
							{/if}
						</tr>
					{/each}
				</tbody>
			</table>
			{#if isDraft && mayBuy}<AddLine order={data} />{/if}
			{#if data.receipts.length}
				<h2>Receipts</h2>
				<table class="rows">
					<thead
						><tr
							><th>Receipt</th><th>When</th><th class="num">Units</th><th class="num">Rate</th><th
								class="num">Value {session.currency}</th
							></tr
						></thead
					>
					<tbody>
						{#each data.receipts as receipt (receipt.id)}
							<tr data-row
								><td><a href="/buying/documents/receipt/{receipt.id}">{receipt.number}</a></td><td
									class="soft">{moment(receipt.received_at)}</td
								><td class="num">{figure(receipt.units)}</td><td class="num soft">{receipt.rate}</td
								><td class="num">{figure(receipt.value)}</td></tr
							>
						{/each}
					</tbody>
				</table>
			{/if}
			<section>
				<h2>What happened</h2>
				<TimeLine history={data.history} />
			</section>
			{#snippet side()}
				<section>
					<h2><a href="/buying/suppliers/{data.supplier_id}">{data.supplier}</a></h2>
					<dl>
						{#if data.supplier_email}<dt>Mail</dt>
							<dd>{data.supplier_email}</dd>{/if}
						<dt>Lead time</dt>
						<dd>{data.lead_days === 1 ? '1 day' : `${data.lead_days} days`}</dd>
						{#if Number(data.order_minimum)}<dt>Minimum</dt>
							<dd>{figure(data.order_minimum)} {data.currency}</dd>{/if}
						{#if data.also_open.length}<dt>Also open</dt>
							<dd>
								{#each data.also_open as one (one.id)}<span class="block"
										><a href="/buying/orders/{one.id}">{one.number}</a>
										{one.state}<span class="soft small block"
											>{day(one.expected_on)}, {one.location}</span
										></span
									>{/each}
							</dd>{/if}
					</dl>
				</section>
				<section>
					<h2>Money</h2>
					<table class="sum" aria-label="Money">
						<tbody>
							<tr><td>Ordered {data.currency}</td><td class="num">{figure(data.total)}</td></tr>
							{#if data.receipts.length}<tr
									><td>Received</td><td class="num">− {figure(data.came)}</td></tr
								>{/if}
							{#if isDraft || isOpen}<tr class="total"
									><td>To come {data.currency}</td><td class="num"
										><Fig value={data.to_come} kind="purchase-order" id={`${data.id}`} /></td
									></tr
								>{/if}
						</tbody>
					</table>
					{#if data.currency !== session.currency && (isDraft || isOpen)}<p class="soft small">
							{#if data.in_base !== null}{figure(data.in_base)}
								{session.currency} at {Number(data.rate)}
								{data.currency} for one {session.currency}, today’s rate. Goods come in at the rate
								of the day on which they arrive.{:else}No rate for {data.currency} is known today.{/if}
						</p>{/if}
				</section>
			{/snippet}
		</Thing>
	{:else}<Pending query={order} />{/if}
	{#snippet totals()}
		{#if data}
			{#if isOpen && mayReceive}
				<button class="quiet" onclick={all}>Everything arrived</button>
				<button
					class="do"
					disabled={busy || !Object.values(typed).some((t) => Number(t.arrived) > 0)}
					onclick={receive}>Receive</button
				>
			{/if}
			<span class="bad" role="alert">{refusal}</span>
			<span class="ml-auto">Total <b class="double">{figure(data.total)}</b> {data.currency}</span>
			{#if Number(data.total) < Number(data.order_minimum) && isDraft}<span class="warn"
					>below the supplier’s minimum of {figure(data.order_minimum)}</span
				>{/if}
			{#if isDraft && mayBuy}
				{#if isEdited}<button class="quiet" disabled={busy || isOvertaken} onclick={save}
						>Save</button
					>{/if}
				<button
					class="do"
					disabled={busy || isEdited}
					title={isEdited ? 'Save first' : ''}
					onclick={send}>Send</button
				>
			{/if}
		{/if}
	{/snippet}
</Sheet>

<style>
	.qty {
		width: 82px;
		text-align: right;
	}
	.differs,
	.warn {
		color: var(--ochre);
		font-weight: 600;
	}
	.bad {
		color: var(--madder);
	}
</style>

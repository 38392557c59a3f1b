<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { ago, figure, moment } from '#lib/format.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import CustomerForm from '#lib/ui/CustomerForm.svelte';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.id));
	const path = $derived({ customer_id: id });
	const customer = createQuery(() => ({
		queryKey: ['customer', id],
		queryFn: () => ask(api.GET('/api/v1/customers/{customer_id}', { params: { path } }))
	}));
	const data = $derived(customer.data);
	const ledgers = createQuery(() => ({
		queryKey: ['customer ledgers', id],
		queryFn: () => ask(api.GET('/api/v1/customers/{customer_id}/ledgers', { params: { path } }))
	}));
	let q = $state('');
	let quantity = $state('1');
	const asked = new Resting(() => ({ q, quantity: Number(quantity.replace(',', '.')) }));
	const prices = createQuery(() => ({
		queryKey: ['customer prices', id, data?.version, asked.value],
		queryFn: () =>
			ask(
				api.GET('/api/v1/customers/{customer_id}/prices', {
					params: { path, query: { q: asked.value.q, quantity: `${asked.value.quantity || 1}` } }
				})
			),
		placeholderData: (before) => before
	}));
</script>

<Sheet question={data?.name ?? 'Customer'} tabs={ORDER_TABS}>
	{#snippet lead()}{#if data}{[data.email, data.address].filter(Boolean).join(' · ') ||
				'no address yet'}{data.from_channel ? ' · came with an order' : ''}{/if}{/snippet}
	{#if data}
		<div class="page">
			<div class="most">
				<section>
					<h2>What they pay</h2>
					<p class="asking">
						<input
							class="field"
							aria-label="Item"
							placeholder="What they buy most; or a name or SKU"
							bind:value={q}
						/>
						<label
							>at <input class="field few" inputmode="decimal" bind:value={quantity} /> units</label
						>
					</p>
					<table class="rows" aria-label="What they pay">
						<thead
							><tr
								><th>Item</th><th class="num">Price</th><th class="num">Before</th><th
									>By the list</th
								></tr
							></thead
						>
						<tbody>
							{#each prices.data ?? [] as row (row.item_id)}
								<tr data-row
									><td class="long"
										><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
										<span class="soft small">{row.sku}</span></td
									>{#if row.fault}<Faulty said={row.fault} span={3} />{:else}<td class="num"
											>{#if row.price === null}<span class="soft">none</span>{:else}<Fig
													value={row.price}
													kind="asked"
													id={`${id}-${row.item_id}`}
												/>{/if}</td
										><td class="num soft"
											>{#if row.previous}<s>{figure(row.previous)}</s>{/if}</td
										><td class="soft">{row.price_list}{row.taxed ? '' : ', without tax'}</td
										>{/if}</tr
								>
							{:else}<tr
									><td colspan="4" class="soft"
										>{prices.data
											? q
												? 'No item is called that.'
												: 'Bought nothing yet; look for an item above.'
											: 'Fetching…'}</td
									></tr
								>{/each}
						</tbody>
					</table>
				</section>
				<section>
					<h2>Orders</h2>
					<table class="rows" aria-label="Orders">
						<thead
							><tr
								><th>Order</th><th>Channel</th><th>Placed</th><th>State</th><th class="num"
									>Total</th
								></tr
							></thead
						>
						<tbody>
							{#each data.orders as order (order.id)}
								<tr data-row
									><td><a class="plain-link" href="/orders/{order.id}">{order.number}</a></td><td
										class="place">{order.channel}</td
									><td class="soft">{moment(order.placed_at)}</td><td
										><Mark state={order.state} /></td
									><td class="num"
										>{figure(order.total)} <span class="soft">{order.currency}</span></td
									></tr
								>
							{:else}<tr><td colspan="5" class="soft">None yet.</td></tr>{/each}
						</tbody>
					</table>
				</section>
			</div>
			<div class="side">
				<div class="panel">
					<CustomerForm customer={data} onkept={() => undefined} />
				</div>
				{#if ledgers.data?.length}<div class="panel" role="region" aria-label="In the ledger">
						<h3>In the ledger</h3>
						{#each ledgers.data as one (one.connection_id)}<p>
								<a href="/connections/{one.connection_id}">{one.ledger}</a> knows them as
								<b>{one.key}</b>
								<Mark
									state={one.state === 'sent'
										? 'agreed'
										: one.state === 'waiting'
											? 'pending'
											: 'held'}
									word={one.state === 'sent'
										? 'told'
										: one.state === 'waiting'
											? 'to be told'
											: 'refused'}
									note={one.state === 'sent' && one.at ? ago(one.at) : one.said}
								/>
							</p>{/each}
					</div>{/if}
			</div>
		</div>
	{:else}<Pending query={customer} />{/if}
</Sheet>

<style>
	.page {
		display: grid;
		grid-template-columns: minmax(0, 2fr) minmax(280px, 1fr);
		gap: 24px;
		padding: 16px 20px 30px 0;
		align-items: start;
	}
	.side {
		display: grid;
		gap: 16px;
	}
	.most {
		display: grid;
		gap: 26px;
	}
	h2,
	.asking {
		padding: 0 20px 6px;
	}
	.asking {
		display: flex;
		gap: 14px;
		align-items: center;
	}
	.asking > .field {
		flex: 1;
		max-width: 340px;
	}
	.few {
		width: 64px;
		text-align: right;
	}
	@media (max-width: 860px) {
		.page {
			grid-template-columns: 1fr;
			padding-right: 0;
		}
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { count, day, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import ItemName from '#lib/ui/ItemName.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SupplierForm from '#lib/ui/SupplierForm.svelte';
	import TermsForm from '#lib/ui/TermsForm.svelte';

	type Terms = Schemas['TermsOut'];
	const id = $derived(Number(page.params.id));
	const supplier = createQuery(() => ({
		queryKey: ['supplier', id],
		queryFn: () =>
			ask(api.GET('/api/v1/suppliers/{supplier_id}', { params: { path: { supplier_id: id } } }))
	}));
	const data = $derived(supplier.data);
	let q = $state('');
	let rate = $state('');
	let refusal = $state('');
	let open = $state<Terms | 'new' | null>(null);
	const rows = $derived(
		(data?.terms ?? []).filter((row) =>
			q
				.toLowerCase()
				.split(/\s+/)
				.every((word) => `${row.title} ${row.sku} ${row.code}`.toLowerCase().includes(word))
		)
	);
	const may = $derived(session.may('buy'));

	async function setRate(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		refusal = '';
		try {
			const { said } = await ask(
				api.POST('/api/v1/exchange-rates', { body: { currency: data?.currency ?? '', rate } })
			);
			notices.say(said);
			rate = '';
		} catch (error) {
			if (error instanceof Problem) refusal = error.message;
			else notices.fail(error);
		}
		await changed();
	}
</script>

<Sheet question={data?.name ?? 'A supplier'} tabs={BUYING_TABS}>
	{#snippet lead()}{#if data}{count(data.terms.length, 'item')}, preferred for {data.terms.filter(
				(row) => row.preferred
			).length} of them; {data.inbox ? `orders go to ${data.inbox}` : 'orders go as PDF'}.
			<a href="/buying/orders?q={encodeURIComponent(data.name)}">Purchase orders</a>{/if}{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		{#if may && data}<button type="button" class="quiet" onclick={() => (open = 'new')}
				>Add an item</button
			>{/if}
	{/snippet}
	{#if data}
		<div class="halves">
			<section>
				{#if rows.length}
					<table class="rows">
						<thead
							><tr
								><th>Item</th><th>Supplier SKU</th><th class="num">Pack</th><th class="num"
									>Minimum</th
								><th class="num">Price {data.currency}</th><th
									title="The price of all units of an order of at least so many">Price breaks</th
								><th class="num" title="In {data.base_currency}">Average cost</th><th>Preferred</th
								>{#if may}<th><span class="sr-only">Actions</span></th>{/if}</tr
							></thead
						>
						<tbody>
							{#each rows as row (row.id)}
								<tr data-row>
									<td class="long"><ItemName id={row.item_id} title={row.title} sku={row.sku} /></td
									>
									<td class="soft clip">{row.code}</td>
									<td class="num">{figure(row.pack)}</td>
									<td class="num">{figure(row.minimum)}</td>
									<td class="num">{figure(row.prices[0]?.price)}</td>
									<td class="soft small"
										>{row.prices
											.slice(1)
											.map((one) => `${figure(one.from_quantity)}: ${figure(one.price)}`)
											.join(' · ')}</td
									>
									<td class="num"
										>{#if row.average_cost}<Fig
												value={Number(row.average_cost).toFixed(2)}
												kind="cost"
												id={`${row.item_id}`}
											/>{:else}<span class="soft">–</span>{/if}</td
									>
									<td>{row.preferred ? 'yes' : ''}</td>
									{#if may}<td class="num"
											><button type="button" class="link" onclick={() => (open = row)}
												>Change<span class="sr-only"> {row.sku}</span></button
											></td
										>{/if}
								</tr>
							{/each}
						</tbody>
					</table>
				{:else}<p class="soft none">
						{data.terms.length
							? 'No item of it is called that.'
							: 'Nothing yet. Add the items it sells, with packs and prices; the replenishment sheet then suggests orders to it.'}
					</p>{/if}
			</section>
			<section class="side">
				<h2>The supplier</h2>
				<SupplierForm {data} onsaved={() => undefined} />
				{#if data.currency !== data.base_currency}
					<h2 class="rates">Exchange rate: 1 {data.base_currency} in {data.currency}</h2>
					{#if data.rates.length}<table class="rate-rows">
							<tbody>
								{#each data.rates as row (row.day)}<tr
										><td>from {day(row.day)}</td><td class="num">{figure(row.rate)}</td></tr
									>{/each}
							</tbody>
						</table>{:else}<p class="missing">
							No rate is known: orders cannot be received nor summed until there is one.
						</p>{/if}
					{#if may}<form class="rate" onsubmit={setRate} aria-label="Rate">
							<label class="ask"
								>From today <input
									class="field"
									inputmode="decimal"
									aria-invalid={refusal !== '' || undefined}
									bind:value={rate}
								/></label
							>
							<button class="quiet" disabled={!rate.trim()}>Set rate</button>
						</form>
						{#if refusal}<p class="refusal" role="alert">{refusal}</p>{/if}{/if}
				{/if}
			</section>
		</div>
	{:else}<Pending query={supplier} />{/if}
	{#snippet totals()}<span>{count(rows.length, 'item')}</span>{/snippet}
</Sheet>
{#if open && data}<TermsForm
		supplier={data}
		terms={open === 'new' ? null : open}
		onclose={() => (open = null)}
	/>{/if}

<style>
	.halves {
		display: grid;
		grid-template-columns: minmax(0, 1fr) 330px;
		min-height: 100%;
	}
	section {
		min-width: 0;
	}
	.side {
		border-left: 1px solid var(--rule);
		padding: 14px 20px 20px;
		background: var(--paper);
	}
	h2 {
		margin-bottom: 8px;
	}
	.rates {
		margin-top: 20px;
	}
	.none {
		padding: 30px 20px;
	}
	.link {
		color: var(--reed);
		cursor: pointer;
		min-height: 24px;
	}
	.link:hover {
		text-decoration: underline;
	}
	.rate-rows {
		width: 100%;
	}
	.rate-rows td {
		padding: 3px 0;
		border-bottom: 1px solid var(--rule);
	}
	.rate {
		display: flex;
		gap: 8px;
		align-items: end;
		margin-top: 10px;
	}
	.rate .field {
		width: 110px;
	}
	.missing {
		color: var(--ochre);
	}
	@media (max-width: 900px) {
		.halves {
			grid-template-columns: 1fr;
		}
		.side {
			border-left: 0;
			border-top: 1px solid var(--rule);
		}
	}
</style>

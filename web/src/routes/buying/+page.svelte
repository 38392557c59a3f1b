<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { SvelteMap } from 'svelte/reactivity';
	import { goto } from '$app/navigation';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { BUYING_TABS } from '#lib/tabs.ts';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Ribbon from '#lib/ui/Ribbon.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	type Row = Schemas['ReplenishRow'];
	const client = useQueryClient();
	let q = $state('');
	let place = $state('');
	let show = $state('needed');
	let busy = $state(false);
	const picked = new SvelteMap<string, string>();
	const sheet = createQuery(() => ({
		queryKey: ['replenishment'],
		queryFn: () => ask(api.GET('/api/v1/replenishment')),
		staleTime: 15000
	}));
	const data = $derived(sheet.data);
	const keyOf = (row: Row): string => `${row.item_id}-${row.location_id}`;
	const words = $derived(q.toLowerCase().split(/\s+/).filter(Boolean));
	const places = $derived([...new Set((data?.rows ?? []).map((row) => row.location))]);
	const shown = $derived(
		(data?.rows ?? []).filter(
			(row) =>
				words.every((word) => `${row.title} ${row.sku}`.toLowerCase().includes(word)) &&
				(!place || row.location === place) &&
				(show === 'all' ||
					(show === 'late' ? row.ribbon.late && row.suggested !== '0' : row.suggested !== '0') ||
					picked.has(keyOf(row)))
		)
	);
	const groups = $derived(
		[...(data?.suppliers ?? []), null]
			.map((supplier) => ({
				supplier,
				rows: shown
					.filter((row) => row.supplier_id === (supplier?.id ?? null))
					.sort((a, b) => Number(a.cover ?? 1e9) - Number(b.cover ?? 1e9))
			}))
			.filter((group) => group.rows.length)
	);
	const orders = $derived(
		new Set(
			(data?.rows ?? [])
				.filter((row) => picked.has(keyOf(row)))
				.map((row) => `${row.supplier_id}-${row.location_id}`)
		)
	);
	const may = $derived(session.may('buy'));

	function toggle(row: Row): void {
		if (picked.has(keyOf(row))) picked.delete(keyOf(row));
		else picked.set(keyOf(row), row.suggested === '0' ? row.pack : row.suggested);
	}

	function pickLate(): void {
		for (const row of shown)
			if (row.ribbon.late && row.suggested !== '0') picked.set(keyOf(row), row.suggested);
	}

	async function draft(): Promise<void> {
		busy = true;
		const lines = (data?.rows ?? [])
			.filter((row) => picked.has(keyOf(row)))
			.map((row) => ({
				item_id: row.item_id,
				location_id: row.location_id,
				quantity: picked.get(keyOf(row)) ?? '0'
			}));
		try {
			const made = await ask(
				api.POST('/api/v1/purchase-orders', {
					body: { lines },
					headers: { 'Idempotency-Key': onceKey() }
				})
			);
			picked.clear();
			notices.say(`Drafted ${made.orders.map((order) => order.number).join(', ')}.`);
			void client.invalidateQueries();
			const only = made.orders[0];
			await goto(
				made.orders.length === 1 && only
					? `/buying/orders/${only.id}`
					: '/buying/orders?state=draft'
			);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
	}
</script>

<Sheet question="What should we buy?" tabs={BUYING_TABS} newPath="/buying/orders">
	{#snippet lead()}
		{#if data}
			<b class="late">{count(data.late, 'row')}</b> run{data.late === 1 ? 's' : ''} out before an order
			placed today can arrive; covering them costs about {figure(data.late_amount)}
			{data.currency}. Days without stock are left out of every rate.
		{/if}
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="Location" bind:value={place}>
			<option value="">all locations</option>
			{#each places as name (name)}<option>{name}</option>{/each}
		</select>
		<select class="field" aria-label="Show" bind:value={show}>
			<option value="needed">what is needed</option><option value="late">what is late</option
			><option value="all">everything</option>
		</select>
		{#if may}<button class="quiet" onclick={pickLate}>Select what is late</button>{/if}
	{/snippet}
	{#if groups.length}
		<table class="rows">
			<thead
				><tr
					><th class="pick"><span class="sr-only">Select</span></th><th>Item</th><th>Location</th
					><th class="num">On hand</th><th class="num">Committed</th><th class="num">Incoming</th
					><th class="num">Per day</th><th class="ribbon-head"
						><span>today</span><span>30</span><span>60</span><span>90 d</span></th
					><th class="num">Cover</th><th class="num">Lead</th><th class="num">Order</th><th
						class="num">Line</th
					></tr
				></thead
			>
			{#each groups as group (group.supplier?.id ?? 0)}
				<tbody>
					<tr class="group"
						><td colspan="12"
							>{group.supplier?.name ?? 'No supplier'}
							{#if group.supplier}<span class="soft font-normal small"
									>lead {group.supplier.lead_days} days · {group.supplier.currency}{group.supplier
										.currency !== data?.currency
										? ` ${group.supplier.rate}`
										: ''} · order minimum {figure(group.supplier.order_minimum)}</span
								>{/if}</td
						></tr
					>
					{#each group.rows as row (keyOf(row))}
						{@const key = keyOf(row)}
						{@const isPicked = picked.has(key)}
						<tr data-row>
							<td class="pick"
								>{#if may && group.supplier}<input
										type="checkbox"
										aria-label="Order {row.title} for {row.location}"
										checked={isPicked}
										onchange={() => toggle(row)}
									/>{/if}</td
							>
							<td
								><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
								<span class="soft small whitespace-nowrap">{row.sku}</span></td
							>
							<td class="place">{row.location}</td>
							<td class="num"><Fig value={row.on_hand} kind="on-hand" id={key} /></td>
							<td class="num">{figure(row.committed)}</td>
							<td class="num">{figure(row.incoming)}</td>
							<td class="num"
								><Fig
									value={row.per_day}
									kind="velocity"
									id={key}
									tone={row.days_out > 0 ? 'ochre' : ''}
								/></td
							>
							<td class="ribbon"><Ribbon ribbon={row.ribbon} cover={row.cover} /></td>
							<td class="num" class:late={row.ribbon.late}
								>{row.cover === null ? '–' : `${Math.round(Number(row.cover))} d`}</td
							>
							<td class="num soft">{row.lead_days} d</td>
							<td class="num"
								>{#if isPicked}<input
										class="field qty"
										inputmode="decimal"
										aria-label="Quantity of {row.title}"
										value={picked.get(key)}
										oninput={(event) => picked.set(key, event.currentTarget.value)}
									/>{:else}<Fig value={row.suggested} kind="suggestion" id={key} />{/if}</td
							>
							<td class="num soft">{figure(row.amount)}</td>
						</tr>
					{/each}
				</tbody>
			{/each}
		</table>
	{:else}
		<Pending
			query={sheet}
			isEmpty
			empty={show === 'all'
				? 'Nothing sells yet, so nothing can be forecast.'
				: 'Nothing needs ordering.'}
		/>
	{/if}
	{#snippet totals()}
		<span>{count(shown.length, 'row')}</span>
		<span>{count(picked.size, 'row')} selected</span>
		{#if may}<button class="do ml-auto" disabled={busy || !picked.size} onclick={draft}
				>Draft {count(orders.size, 'purchase order')}</button
			>{/if}
	{/snippet}
</Sheet>

<style>
	.late {
		color: var(--madder);
		font-weight: 600;
	}
	.pick {
		width: 34px;
	}
	.ribbon-head span {
		display: inline-block;
		width: 58px;
		font-weight: 400;
	}
	.ribbon-head span:last-child {
		width: auto;
		margin-left: -8px;
	}
	.ribbon-head {
		font-size: 11px !important;
	}
	.ribbon {
		width: 196px;
	}
	.qty {
		width: 62px;
		text-align: right;
		font-weight: 600;
	}
	.rows td:not(:first-child),
	.rows th:not(:first-child) {
		padding-left: 6px;
		padding-right: 6px;
	}
	.rows :is(td, th):last-child {
		padding-right: 20px;
	}
</style>

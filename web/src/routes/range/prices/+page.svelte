<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { count, day, figure, moment, percent } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PriceListForm from '#lib/ui/PriceListForm.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const lists = createQuery(() => ({
		queryKey: ['price lists'],
		queryFn: () => ask(api.GET('/api/v1/price-lists'))
	}));
	const data = $derived(lists.data);
	const may = $derived(session.may('change prices'));
	const yesterday = new Date(Date.now() - 24 * 3600 * 1000);
	let isNew = $state(page.url.searchParams.has('new'));
</script>

<Sheet question="What does it sell for, and to whom?" tabs={RANGE_TABS} newPath="/range/prices?new">
	{#snippet lead()}Where a customer, a group, a connection or a place is given a list, that list
		speaks first; an item it does not price has its base price.{/snippet}
	{#snippet filters()}{#if may}<button class="do" onclick={() => (isNew = true)}
				>New price list</button
			>{/if}{/snippet}
	{#if data}
		<table class="rows">
			<thead
				><tr
					><th>Price list</th><th>Prices come from</th><th>Given to</th><th>In</th><th class="num"
						>Items priced</th
					><th class="num">typed</th><th class="num" title="Net of tax, half of the items have more"
						>Median margin</th
					><th class="num">Below floor</th><th>In force</th></tr
				></thead
			>
			<tbody>
				{#each data.rows as row (row.id)}
					<tr data-row>
						<td class="long"
							><a class="plain-link" href="/range/prices/{row.id}"><b>{row.name}</b></a></td
						>
						{#if row.fault}<Faulty said={row.fault} span={8} />{:else}
							<td class="how">{row.how}</td>
							<td class="long soft"
								>{row.base
									? 'everybody without another list'
									: row.given_to.join(', ') || 'nobody yet'}</td
							>
							<td class="soft">{row.currency} {row.taxed ? 'with tax' : 'net'}</td>
							<td class="num"
								>{figure(`${row.priced}`)}<span class="soft small">
									of {figure(`${data.items}`)}</span
								></td
							>
							<td class="num">{figure(`${row.typed}`)}</td>
							<td class="num">{percent(row.margin)}</td>
							<td class="num" class:bad={row.below_floor}>{figure(`${row.below_floor}`)}</td>
							<td
								>{#if row.in_force}<Mark
										state="live"
										word={row.ends_on ? `until ${day(row.ends_on)}` : 'always'}
									/>{:else}<Mark
										state="paused"
										word={row.starts_on && new Date(row.starts_on) > new Date()
											? `from ${day(row.starts_on)}`
											: 'over'}
									/>{/if}</td
							>
						{/if}
					</tr>
				{/each}
			</tbody>
		</table>
		{#if data.changes.length}
			<h2>Changes, the newest first</h2>
			<table class="rows" aria-label="Changes">
				<tbody>
					{#each data.changes as one (one.id)}
						<tr data-row
							><td class="soft place">{moment(one.at)}</td><td class="place">{one.by}</td><td
								><a class="plain-link" href="/range/prices/{one.list_id}">{one.list}</a></td
							><td class="long">{one.what}</td><td class="num">{count(one.items, 'item')}</td><td
								>{#if one.undone_at}<Mark
										state="closed"
										word="taken back"
									/>{:else if one.starts_on || one.ends_on}<Mark
										state={one.starts_on && new Date(one.starts_on) > new Date()
											? 'pending'
											: one.ends_on && new Date(one.ends_on) < yesterday
												? 'closed'
												: 'live'}
										word="{one.starts_on ? day(one.starts_on) : 'at once'} – {one.ends_on
											? day(one.ends_on)
											: 'open'}"
									/>{:else}<span class="soft">for good</span>{/if}</td
							></tr
						>
					{/each}
				</tbody>
			</table>
		{/if}
	{:else}<Pending query={lists} />{/if}
	{#snippet totals()}{#if data}<span>{count(data.rows.length, 'price list')}</span>{/if}{/snippet}
</Sheet>
<Dialogue isOpen={isNew} title="A new price list" wide onclose={() => (isNew = false)}>
	{#if isNew}<PriceListForm
			list={null}
			onkept={(list) => {
				isNew = false;
				void goto(`/range/prices/${list.id}`);
			}}
		/>{/if}
</Dialogue>

<style>
	.how {
		min-width: 190px;
	}
	h2 {
		padding: 26px 20px 6px;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
</style>

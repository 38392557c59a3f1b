<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { day, figure, moment, percent } from '#lib/format.ts';
	import Fig from './Fig.svelte';

	/** An item's price in every list: where it comes from, what it leaves, who sees it. */
	type Props = { data: Schemas['ItemPricesOut'] };
	let { data }: Props = $props();
	const when = (one: Schemas['TypedPriceOut']): string =>
		[
			one.from_quantity === '0' ? '' : `from ${figure(one.from_quantity)}`,
			one.starts_on ? `from ${day(one.starts_on)}` : '',
			one.ends_on ? `until ${day(one.ends_on)}` : ''
		]
			.filter(Boolean)
			.join(', ');
	/** Typed prices that begin later or only at a quantity. */
	const more = (rung: Schemas['RungPriceOut']): Schemas['TypedPriceOut'][] =>
		rung.entries.filter((one) => one.from_quantity !== '0' || one.starts_on || one.ends_on);
</script>

<table class="rows ladder">
	<thead
		><tr
			><th>Price list</th><th class="num">Price</th><th class="num">Before</th><th
				class="num"
				title="Of the price without tax">Margin</th
			><th>In</th><th>Comes from</th><th>Seen by</th></tr
		></thead
	>
	<tbody>
		{#each data.rungs as rung (rung.list_id)}
			<tr data-row class:silent={rung.price === null}>
				<td class="long"
					><a class="plain-link" href="/range/prices/{rung.list_id}">{rung.name}</a></td
				>
				<td class="num"
					>{#if rung.price === null}<span class="soft">none</span>{:else}<Fig
							value={rung.price}
							kind="price"
							id={`${rung.list_id}-${data.item_id}`}
						/>{/if}</td
				>
				<td class="num soft"
					>{#if rung.previous}<s>{figure(rung.previous)}</s>{/if}</td
				>
				<td class="num" class:bad={rung.below_floor}>{percent(rung.margin)}</td>
				<td class="soft terms">{rung.currency} {rung.taxed ? 'with tax' : 'net'}</td>
				<td class="soft"
					>{rung.source || '–'}{rung.ends_on ? `, until ${day(rung.ends_on)}` : ''}
					{#each rung.breaks as one (one.from_quantity)}<span class="block small"
							>from {figure(one.from_quantity)}: {figure(one.price)}</span
						>{/each}
					{#each more(rung) as one, n (n)}{#if one.starts_on || one.ends_on}<span
								class="block small">{figure(one.price)} {when(one)}</span
							>{/if}{/each}</td
				>
				<td class="long soft"
					>{rung.base ? 'everybody without another list' : rung.given_to.join(', ') || 'nobody yet'}
					{#each rung.after_fees as one (one.name)}<span class="block small"
							><b>{one.margin === null ? 'nothing' : percent(one.margin)}</b>
							{`after ${one.name}’s ${Number(one.percent)}\u00a0%`}</span
						>{/each}</td
				>
			</tr>
		{/each}
	</tbody>
</table>
{#if data.history.length}
	<details>
		<summary>How these prices were changed</summary>
		<table class="rows ladder" aria-label="Changes of prices">
			<tbody>
				{#each data.history as one, n (n)}
					<tr
						><td class="soft place">{moment(one.at)}</td><td class="place">{one.by}</td><td
							>{one.name}</td
						><td class="num"
							>{one.before === null ? 'none' : figure(one.before)} →
							<b>{one.after === null ? 'none' : figure(one.after)}</b></td
						><td class="soft">{when({ ...one, price: '', previous: null })}</td><td
							class="soft long">{one.what}</td
						></tr
					>
				{/each}
			</tbody>
		</table>
	</details>
{/if}

<style>
	.ladder {
		width: auto;
		min-width: 70%;
	}
	.silent td {
		color: var(--ink-soft);
	}
	.terms {
		white-space: nowrap;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
	summary {
		padding: 8px 20px;
		cursor: pointer;
		color: var(--reed);
	}
</style>

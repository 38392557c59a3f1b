<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { ago, count, day, figure } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { TODAY_TABS } from '#lib/tabs.ts';
	import Balance from '#lib/ui/Balance.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const today = createQuery(() => ({
		queryKey: ['today'],
		queryFn: () => ask(api.GET('/api/v1/today'))
	}));
	const data = $derived(today.data);
	const drifting = $derived(data?.beams.filter((beam) => beam.differing > 0).length ?? 0);
	/** Books that nobody has compared yet agree as little as they differ. */
	const checked = $derived(
		data !== undefined && data.begun && data.beams.length > 0 && data.beams.every((beam) => beam.at)
	);
	const change = $derived.by(() => {
		if (!data || Number(data.net_before) === 0) return null;
		return Math.round((Number(data.net) / Number(data.net_before) - 1) * 100);
	});
	const most = $derived(
		Math.max(1, ...(data?.days ?? []).flatMap((d) => [Number(d.net), Number(d.before)]))
	);
	const W = 12;
	const H = 92;
</script>

<Sheet
	question={drifting
		? 'What needs you today?'
		: checked
			? 'All three books agree. What waits?'
			: 'What waits?'}
	tabs={TODAY_TABS}
>
	{#snippet lead()}
		{#if data}{count(data.waits.length, 'thing')} to look at. Books checked {ago(
				data.beams[0]?.at
			)}.{/if}
	{/snippet}
	{#if data}
		<div class="morning">
			{#each data.faults as said (said)}<p class="faulty">{said} A snag says so too.</p>{/each}
			<section class="beams" aria-label="Agreement">
				{#each data.beams as beam (beam.code)}
					<Balance {beam} href="/books" />
				{/each}
			</section>
			<div class="lower">
				<section aria-labelledby="waits">
					<h2 id="waits">What waits</h2>
					<table class="rows">
						<thead class="sr-only"><tr><th>Station</th><th>Count</th><th>What</th></tr></thead>
						<tbody>
							{#if !data.begun}
								<tr
									><td colspan="3"
										>Nothing is connected yet. <a href="/first-steps">First steps</a> leads from an empty
										company to books that agree.</td
									></tr
								>
							{/if}
							{#each data.waits as wait (wait.what)}
								<tr data-row>
									<td class="soft station">{wait.station}</td>
									<td class="num n {wait.mark}">{wait.count}</td>
									<td
										><a class="plain-link" href={wait.link}>{wait.what}</a>
										{#if wait.detail}<span class="soft small">{wait.detail}</span>{/if}</td
									>
								</tr>
							{:else}
								{#if data.begun}<tr
										><td colspan="3" class="soft">Nothing waits. A good morning.</td></tr
									>{/if}
							{/each}
						</tbody>
					</table>
				</section>
				<section class="sales" aria-labelledby="sales">
					<h2 id="sales">Sales, {data.span_days} days</h2>
					<p class="net">
						{figure(data.net)} <span class="soft small">{session.me?.currency} net</span>
						{#if change !== null}<span class="small change" class:down={change < 0}
								>{change >= 0 ? '+' : '−'}{Math.abs(change)} % on the {data.span_days} days before</span
							>{/if}
					</p>
					<svg
						width={data.days.length * W}
						height={H + 18}
						role="img"
						aria-label="Net sales a day; the line is four weeks before"
					>
						{#each data.days as d, n (d.day)}
							<rect
								x={n * W + 2}
								width={W - 4}
								y={H - (Number(d.net) / most) * H}
								height={(Number(d.net) / most) * H}
								><title>{day(d.day)}: {figure(d.net)}</title></rect
							>
						{/each}
						<polyline
							points={data.days
								.map((d, n) => `${n * W + W / 2},${H - (Number(d.before) / most) * H}`)
								.join(' ')}
						/>
						<path d="M0 {H}H{data.days.length * W}" />
						<text x="0" y={H + 14}>{day(data.days[0]?.day)}</text>
						<text x={data.days.length * W} y={H + 14} text-anchor="end">today</text>
					</svg>
					<p class="small soft">
						{count(data.orders, 'order')}, against {data.orders_before}. Line: four weeks before.
					</p>
				</section>
			</div>
		</div>
	{:else}
		<Pending query={today} />
	{/if}
</Sheet>

<style>
	.morning {
		padding: 18px 20px;
		display: grid;
		gap: 22px;
	}
	.beams {
		display: grid;
		grid-template-columns: repeat(auto-fit, minmax(168px, 1fr));
		gap: 12px;
	}
	.lower {
		display: grid;
		grid-template-columns: minmax(0, 1fr) 356px;
		gap: 32px;
	}
	h2 {
		margin-bottom: 6px;
	}
	.station {
		width: 110px;
		padding-left: 0 !important;
	}
	.n {
		width: 56px;
		font-weight: 600;
	}
	.wrong {
		color: var(--madder);
	}
	.look {
		color: var(--ochre);
	}
	.faulty {
		color: var(--madder);
	}
	.net {
		font:
			600 22px/28px 'Literata Variable',
			Georgia,
			serif;
		margin-bottom: 8px;
	}
	.change {
		font-family: 'Source Sans 3 Variable', sans-serif;
		color: var(--reed);
		display: block;
	}
	.down {
		color: var(--ochre);
	}
	rect {
		fill: var(--reed);
		opacity: 0.75;
	}
	polyline {
		fill: none;
		stroke: var(--ochre);
		stroke-width: 1.4;
	}
	path {
		stroke: var(--ink);
	}
	text {
		font-size: 11px;
		fill: var(--ink-soft);
	}
	@media (max-width: 900px) {
		.lower {
			grid-template-columns: 1fr;
		}
	}
</style>

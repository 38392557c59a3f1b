<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { day, shortDay } from '#lib/format.ts';

	/** Two years of weekly demand, and what is expected: the mean, and the band that holds eight weeks of ten. */
	type Props = { past: Schemas['HistoryOut']; ahead: Schemas['ForecastWeek'][] };
	let { past, ahead }: Props = $props();

	const HEIGHT = 190;
	const LEFT = 34;
	const FOOT = 20;
	const WEEK = 7 * 86_400_000;
	const YEAR_WEEKS = 52;
	const LETTER = 6.5;
	let width = $state(900);
	let at = $state<number | null>(null);
	const columns = $derived(past.weeks.length + ahead.length);
	const step = $derived((width - LEFT - 12) / Math.max(1, columns));
	const most = $derived(
		nice(Math.max(1, ...past.weeks.map((w) => w.units), ...ahead.map((w) => w.high)))
	);
	const marks = $derived([0, most / 2, most]);
	const start = $derived(new Date(past.start).getTime());
	const x = (n: number): number => LEFT + n * step;
	const y = (units: number): number => HEIGHT - (units / most) * (HEIGHT - 10);
	const middle = (n: number): number => x(past.weeks.length + n + 0.5);
	const line = (key: 'mean' | 'low' | 'high'): string =>
		ahead.map((week, n) => `${middle(n)} ${y(week[key])}`).join('L');
	const band = $derived(
		ahead.length
			? `M${line('high')}L${ahead
					.map((week, n) => `${middle(n)} ${y(week.low)}`)
					.reverse()
					.join('L')}Z`
			: ''
	);
	const before = $derived(
		ahead
			.map((_, n) => ({ n, week: past.weeks[past.weeks.length - YEAR_WEEKS + n] }))
			.filter((one) => one.week && one.week.in_stock > 0)
	);
	const months = $derived.by(() => {
		const found: { x: number; text: string }[] = [];
		for (let n = 0; n < columns; n++) {
			const begin = new Date(start + n * WEEK);
			const end = new Date(start + (n + 1) * WEEK);
			if (begin.getUTCMonth() === end.getUTCMonth() || end.getUTCMonth() % 3) continue;
			const month = shortDay(`${end.toISOString().slice(0, 7)}-01`).slice(2);
			const text = end.getUTCMonth() ? month : `${month} ${end.getUTCFullYear()}`;
			// What would run into the label before it, or over the edge, is left out.
			const before = found.at(-1);
			if (before && x(n + 1) < before.x + (before.text.length + 1) * LETTER) continue;
			if (x(n + 1) + text.length * LETTER > width) continue;
			found.push({ x: x(n + 1), text });
		}
		return found;
	});
	const said = $derived.by(() => {
		if (at === null) return '';
		const week = past.weeks[at];
		if (week) {
			const days = Math.round(week.in_stock * 7);
			const stocked = days === 7 ? '' : `, in stock on ${days} of 7 days`;
			return `Week of ${day(new Date(start + at * WEEK).toISOString().slice(0, 10))}: ${week.units} sold${stocked}`;
		}
		const next = ahead[at - past.weeks.length];
		return next
			? `Week of ${day(next.start)}: ${next.mean.toFixed(1)} expected, ${next.low.toFixed(1)} to ${next.high.toFixed(1)} in 80 % of cases`
			: '';
	});

	function nice(value: number): number {
		const power = 10 ** Math.floor(Math.log10(value));
		return [1, 2, 4, 5, 10].map((n) => n * power).find((n) => n >= value) ?? value;
	}

	function point(event: PointerEvent): void {
		const box = (event.currentTarget as SVGElement).getBoundingClientRect();
		const n = Math.floor((event.clientX - box.left - LEFT) / step);
		at = n >= 0 && n < columns ? n : null;
	}
</script>

<figure bind:clientWidth={width}>
	<svg
		{width}
		height={HEIGHT + FOOT}
		role="img"
		aria-label="Units a week over two years, and what is expected of the next {ahead.length} weeks"
		onpointermove={point}
		onpointerleave={() => (at = null)}
	>
		{#each marks as mark (mark)}
			<path d="M{LEFT} {y(mark)}H{width - 12}" class={mark ? 'grid' : 'axis'} />
			<text x={LEFT - 6} y={y(mark) + 4} text-anchor="end">{mark}</text>
		{/each}
		{#each months as month (month.x)}
			<path d="M{month.x} {HEIGHT}v4" class="axis" />
			<text x={month.x + 2} y={HEIGHT + 15}>{month.text}</text>
		{/each}
		{#each past.weeks as week, n (n)}
			{#if week.in_stock < 1}
				<rect
					x={x(n)}
					y="4"
					width={step}
					height={HEIGHT - 4}
					class="empty"
					opacity={1 - week.in_stock}
				/>
			{/if}
			<rect
				x={x(n) + 0.5}
				y={y(week.units)}
				width={Math.max(1, step - 1)}
				height={HEIGHT - y(week.units)}
				class="bar"
				class:on={at === n}
			/>
		{/each}
		<path d={band} class="band" />
		{#if ahead.length}
			<path d="M{line('mean')}" class="mean" />
			{#each before as { n, week } (n)}
				<circle cx={middle(n)} cy={y(week?.units ?? 0)} r="2" class="year" />
			{/each}
		{/if}
		<path d="M{x(past.weeks.length)} 4V{HEIGHT}" class="today" />
		{#if at !== null && at >= past.weeks.length}
			<path d="M{x(at + 0.5)} 4V{HEIGHT}" class="grid" />
		{/if}
	</svg>
	<figcaption class="soft small">
		{#if said}{said}{:else}
			<span class="sign bar-sign"></span> sold in a week
			<span class="sign empty-sign"></span> nothing in stock
			<span class="sign mean-sign"></span> expected
			<span class="sign band-sign"></span> 80 % of cases
			<span class="sign year-sign"></span> the same week last year{/if}
	</figcaption>
</figure>

<style>
	figure {
		width: 100%;
		overflow: hidden;
	}
	svg {
		display: block;
		/* Narrower at once when the window is, a moment before the width is measured anew. */
		width: 100%;
	}
	.bar {
		fill: var(--rule-strong);
	}
	.bar.on {
		fill: var(--ink-soft);
	}
	.empty {
		fill: var(--ochre-tint);
	}
	.axis {
		stroke: var(--ink);
	}
	.grid {
		stroke: var(--rule);
	}
	.today {
		stroke: var(--ink-soft);
		stroke-dasharray: 2 3;
	}
	.band {
		fill: var(--reed);
		opacity: 0.2;
	}
	.mean {
		fill: none;
		stroke: var(--reed);
		stroke-width: 2;
	}
	.year {
		fill: var(--sheet);
		stroke: var(--ink);
	}
	text {
		font-size: 11px;
		fill: var(--ink-soft);
		font-variant-numeric: tabular-nums;
	}
	figcaption {
		padding-left: 34px;
		min-height: 20px;
	}
	.sign {
		display: inline-block;
		width: 10px;
		height: 10px;
		margin: 0 3px 0 12px;
		vertical-align: -1px;
	}
	.sign:first-child {
		margin-left: 0;
	}
	.bar-sign {
		background: var(--rule-strong);
	}
	.empty-sign {
		background: var(--ochre-tint);
		border: 1px solid var(--rule);
	}
	.mean-sign {
		height: 0;
		border-top: 2px solid var(--reed);
		vertical-align: 4px;
	}
	.band-sign {
		background: color-mix(in srgb, var(--reed) 20%, transparent);
	}
	.year-sign {
		width: 6px;
		height: 6px;
		border: 1px solid var(--ink);
		border-radius: 50%;
		vertical-align: 1px;
	}
</style>

<script lang="ts">
	import { day } from '#lib/format.ts';

	/** What one costs on average, as it went from receipt to receipt: a step at each change. */
	type Point = { at: string; value: number };
	type Props = { points: Point[]; label: string; width?: number; height?: number };
	let { points, label, width = 300, height = 84 }: Props = $props();
	const TOP = 14;
	const start = $derived(new Date(points[0]?.at ?? 0).getTime());
	const end = $derived(Math.max(Date.now(), start + 1));
	const low = $derived(Math.min(...points.map((one) => one.value)));
	const high = $derived(Math.max(...points.map((one) => one.value)));
	const x = (iso: string): number => ((new Date(iso).getTime() - start) / (end - start)) * width;
	const y = (value: number): number =>
		high === low ? height / 2 + TOP : TOP + (1 - (value - low) / (high - low)) * (height - 6);
	const line = $derived(
		points
			.map((one, n) => `${n ? `H${x(one.at).toFixed(1)}V` : `M0 `}${y(one.value).toFixed(1)}`)
			.join('') + `H${width}`
	);
	const last = $derived(points.at(-1));
</script>

<svg
	{width}
	height={height + TOP + 18}
	role="img"
	aria-label="{label}: from {points[0]?.value.toFixed(2)} to {last?.value.toFixed(
		2
	)}, between {low.toFixed(2)} and {high.toFixed(2)}"
>
	<path d={line} />
	{#if last}<circle cx={width - 2} cy={y(last.value)} r="3" />{/if}
	<text x="0" y={height + TOP + 14}>{day(points[0]?.at)}</text>
	<text x={width} y={height + TOP + 14} text-anchor="end">today</text>
	{#if high !== low}
		<text x={width} y={y(high) > TOP + 8 ? TOP - 4 : y(high) - 4} text-anchor="end"
			>at most {high.toFixed(2)}</text
		>
		<text x="0" y={TOP - 4}>at least {low.toFixed(2)}</text>
	{/if}
</svg>

<style>
	svg {
		display: block;
		max-width: 100%;
	}
	path {
		fill: none;
		stroke: var(--reed);
		stroke-width: 1.8;
	}
	circle {
		fill: var(--reed);
	}
	text {
		font-size: 11px;
		fill: var(--ink-soft);
	}
</style>

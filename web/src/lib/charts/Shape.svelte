<script lang="ts">
	/** A year of weekly demand and the weeks to come, small enough for a row. */
	type Props = { past: (number | null)[]; ahead: number[]; width?: number };
	let { past, ahead, width = 200 }: Props = $props();

	const HEIGHT = 22;
	const most = $derived(Math.max(1, ...past.map((units) => units ?? 0), ...ahead));
	const step = $derived(width / Math.max(1, past.length + ahead.length));
	const y = (units: number): number => HEIGHT - (units / most) * (HEIGHT - 2);
	const bars = $derived(
		past.map((units, n) => (units ? `M${(n + 0.5) * step} ${HEIGHT}V${y(units)}` : '')).join('')
	);
	const gaps = $derived(
		past.map((units, n) => (units === null ? `M${(n + 0.5) * step} ${HEIGHT}V0` : '')).join('')
	);
	const line = $derived(
		ahead.map((units, n) => `${(past.length + n + 0.5) * step} ${y(units)}`).join('L')
	);
	const empty = $derived(past.filter((units) => units === null).length);
</script>

<svg
	{width}
	height={HEIGHT + 1}
	role="img"
	aria-label="At most {most.toFixed(0)} a week over the last year; {ahead[0]?.toFixed(
		1
	)} expected next week{empty ? `; ${empty} weeks without stock` : ''}"
>
	<path d={gaps} class="gap" style:stroke-width={step + 0.3} />
	<path d={bars} class="bar" style:stroke-width={step * 0.7} />
	<path d="M0 {HEIGHT + 0.5}H{past.length * step}" class="axis" />
	{#if line}<path d="M{line}" class="mean" />{/if}
</svg>

<style>
	svg {
		display: block;
	}
	path {
		fill: none;
	}
	.bar {
		stroke: var(--rule-strong);
	}
	.gap {
		stroke: var(--ochre-tint);
	}
	.axis {
		stroke: var(--rule-strong);
	}
	.mean {
		stroke: var(--reed);
		stroke-width: 1.8;
	}
</style>

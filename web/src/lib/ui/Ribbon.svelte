<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';

	/** Days from today: solid while stock lasts, ticks where orders arrive, a notch at the lead time. */
	type Props = { ribbon: Schemas['RibbonOut']; cover: string | null };
	let { ribbon, cover }: Props = $props();
	const WIDTH = 176;
	const DAYS = 90;
	const x = (days: number): number => Math.min(DAYS, days) * (WIDTH / DAYS);
	const label = $derived(
		`${cover === null ? 'no sales' : `${Math.round(Number(cover))} days of cover`}, lead time ${ribbon.lead} days` +
			(ribbon.late ? ', runs out before an order placed today can arrive' : '')
	);
	const tone = $derived(ribbon.late ? 'var(--madder)' : 'var(--reed)');
	const id = $props.id();
</script>

<svg width={WIDTH + 4} height="24" viewBox="-1 0 {WIDTH + 4} 24" role="img" aria-label={label}>
	<defs>
		<linearGradient id="fade-{id}" x1="0" x2="1">
			<stop offset="0" stop-color={tone} />
			<stop offset="1" stop-color={tone} stop-opacity="0.12" />
		</linearGradient>
	</defs>
	<path d="M0 12H{WIDTH}" class="track" />
	{#each [30, 60] as mark (mark)}<path d="M{x(mark)} 7V17" class="track" />{/each}
	<rect x="0" y="9" height="6" width={x(ribbon.sure_until)} fill={tone} />
	<rect
		x={x(ribbon.sure_until)}
		y="9"
		height="6"
		width={Math.max(0, x(ribbon.solid_until) - x(ribbon.sure_until))}
		fill="url(#fade-{id})"
	/>
	{#each ribbon.arrivals as arrival, n (n)}
		<path d="M{x(arrival.day)} 13V18" class="arrival" />
		<circle cx={x(arrival.day)} cy="20" r="2.4" class="arrival" />
	{/each}
	<path d="M{x(ribbon.lead) - 4} 2H{x(ribbon.lead) + 4}L{x(ribbon.lead)} 7Z" class="notch" />
	<path d="M{x(ribbon.lead)} 5V17" class="notch-line" />
</svg>

<style>
	.track {
		stroke: var(--rule);
		stroke-width: 2;
		fill: none;
	}
	.arrival {
		stroke: var(--reed);
		stroke-width: 1.8;
		fill: var(--sheet);
	}
	.notch {
		fill: var(--ink);
	}
	.notch-line {
		stroke: var(--ink);
		stroke-width: 1.6;
	}
</style>

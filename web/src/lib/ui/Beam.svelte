<script lang="ts">
	/** Two books on a balance: level when they agree, else tilted to the heavier (lower) side. */
	type Props = { tilt: number; tone?: 'reed' | 'ochre' | 'madder'; size?: number; label: string };
	let { tilt, tone, size = 36, label }: Props = $props();
	const side = $derived(Math.sign(tilt));
	const colour = $derived(tone ?? (side === 0 ? 'reed' : 'madder'));
</script>

<svg
	width={size}
	height={size * 0.5}
	viewBox="-40 -14 80 40"
	role="img"
	aria-label={label}
	style="color: var(--{colour})"
>
	<g class="arm" style="transform: rotate({side * 7}deg)">
		<path d="M-36 0H36M-36 0V9M36 0V9" />
	</g>
	<path d="M0 0V22M-12 23H12" />
	<circle cx="0" cy="0" r="4" />
</svg>

<style>
	path {
		stroke: currentColor;
		stroke-width: 3.4;
		fill: none;
		stroke-linecap: round;
	}
	circle {
		fill: currentColor;
	}
	.arm {
		transition: transform 400ms ease;
	}
	@media (prefers-reduced-motion: reduce) {
		.arm {
			transition: none;
		}
	}
</style>

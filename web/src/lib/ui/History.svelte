<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { day } from '#lib/format.ts';

	/** Two years of weekly demand behind a suggestion; weeks without stock are shaded, not counted as zero. */
	type Props = { id: string };
	let { id }: Props = $props();
	const parts = $derived(id.split('-').map(Number));
	const history = createQuery(() => ({
		queryKey: ['history', id],
		queryFn: () =>
			ask(
				api.GET('/api/v1/replenishment/history', {
					params: { query: { item: parts[0] ?? 0, location: parts[1] ?? 0 } }
				})
			),
		retry: false
	}));
	const WIDTH = 286;
	const HEIGHT = 84;
	const weeks = $derived(history.data?.weeks ?? []);
	const most = $derived(Math.max(1, ...weeks.map((week) => week.units)));
	const step = $derived(WIDTH / Math.max(1, weeks.length));
	const empty = $derived(weeks.filter((week) => week.in_stock < 1).length);
</script>

{#if history.data}
	<svg
		width={WIDTH}
		height={HEIGHT + 16}
		role="img"
		aria-label="Units a week over two years, at most {most}; {empty} weeks partly or wholly without stock"
	>
		{#each weeks as week, n (n)}
			{#if week.in_stock < 1}
				<rect
					x={n * step}
					y="0"
					width={step}
					height={HEIGHT}
					class="empty"
					opacity={1 - week.in_stock}
				/>
			{/if}
			<rect
				x={n * step + 0.4}
				y={HEIGHT - (week.units / most) * (HEIGHT - 14)}
				width={Math.max(1, step - 0.9)}
				height={(week.units / most) * (HEIGHT - 14)}
				class="bar"
			/>
		{/each}
		<path d="M0 {HEIGHT}H{WIDTH}" class="axis" />
		<text x="0" y={HEIGHT + 13}>{day(history.data.start)}</text>
		<text x={WIDTH} y={HEIGHT + 13} text-anchor="end">last week</text>
	</svg>
	<p class="small soft">
		Units a week, at most {most}. {empty ? 'Shaded: none in stock.' : ''}
	</p>
{/if}

<style>
	svg {
		margin-top: 16px;
	}
	.bar {
		fill: var(--rule-strong);
	}
	.empty {
		fill: var(--ochre-tint);
	}
	.axis {
		stroke: var(--ink);
	}
	text {
		font-size: 11px;
		fill: var(--ink-soft);
	}
</style>

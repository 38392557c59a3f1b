<script lang="ts">
	import { drawer } from '#lib/drawer.svelte.ts';
	import { figure } from '#lib/format.ts';

	/** A figure that opens its Working. */
	type Props = { value: string | null; kind: string; id: string; tone?: string; suffix?: string };
	let { value, kind, id, tone = '', suffix = '' }: Props = $props();
	const isOpen = $derived(drawer.kind === kind && drawer.key === id);
</script>

<button
	type="button"
	class="fig"
	class:isOpen
	data-fig={kind}
	data-key={id}
	style={tone ? `color: var(--${tone}); font-weight: 600` : ''}
	aria-expanded={isOpen}
	title="Open the Working"
	onclick={(event) => {
		event.stopPropagation();
		drawer.open(kind, id);
	}}>{figure(value)}{suffix}</button
>

<style>
	.fig {
		font-variant-numeric: tabular-nums;
		border-bottom: 1px solid var(--rule-strong);
		line-height: 18px;
		min-height: 24px;
		padding: 2px 0 1px 2px;
		cursor: pointer;
		background: none;
	}
	.fig:hover,
	.isOpen {
		border-bottom-color: var(--reed);
		color: var(--reed);
	}
	.isOpen {
		border-bottom-width: 2px;
	}
</style>

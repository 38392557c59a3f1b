<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { moment } from '#lib/format.ts';

	/** All that happened to one thing, the oldest first, and what is still to come of it. */
	type Props = { history: Schemas['MomentOut'][]; ahead?: string[] };
	let { history, ahead = [] }: Props = $props();
</script>

<ol class="line" aria-label="What happened">
	{#each history as one, n (n)}<li>
			<span class="soft when">{moment(one.at)}</span>
			<span>{one.what}</span>
			<span class="soft small">{one.more}{one.by ? `${one.more ? ' · ' : ''}${one.by}` : ''}</span>
		</li>{/each}
	{#if ahead.length}<li class="then">
			<span class="soft">then: {ahead.join(' · ')}</span>
		</li>{/if}
</ol>

<style>
	.line {
		list-style: none;
		margin: 4px 20px 20px;
		padding: 0;
		display: grid;
		gap: 8px;
		overflow-wrap: anywhere;
	}
	.line li {
		position: relative;
		padding-left: 18px;
		display: flex;
		gap: 4px 10px;
		flex-wrap: wrap;
	}
	.line li::before {
		content: '';
		position: absolute;
		left: 0;
		top: 6px;
		width: 9px;
		height: 9px;
		border-radius: 50%;
		background: var(--reed);
	}
	.line .then::before {
		background: none;
		border: 1px solid var(--rule-strong);
	}
	.line li:not(:last-child)::after {
		content: '';
		position: absolute;
		left: 4px;
		top: 15px;
		bottom: -14px;
		border-left: 1px solid var(--rule-strong);
	}
	.when {
		font-variant-numeric: tabular-nums;
	}
</style>

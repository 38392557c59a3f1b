<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';

	/** Where a rule's value comes from: every level, and which of them speaks. */
	type Props = { one: Schemas['SettingOut'] };
	let { one }: Props = $props();
</script>

<ol class="small" aria-label="Where {one.label} comes from">
	{#each one.rungs as each, n (n)}
		{@const isOver = one.rungs.slice(0, n).some((up) => up.is_set)}
		<li class:speaks={each.is_set && !isOver} class:overruled={each.is_set && isOver}>
			<span>{each.level}</span>
			<span>{each.title}</span>
			<span class="said">{each.is_set ? each.said : 'inherits'}</span>
		</li>
	{/each}
</ol>

<style>
	ol {
		display: grid;
		grid-template-columns: max-content minmax(0, 1fr) max-content;
		gap: 2px 18px;
		max-width: 620px;
		padding: 2px 0 6px 14px;
		border-left: 2px solid var(--reed);
	}
	li {
		display: grid;
		grid-template-columns: subgrid;
		grid-column: 1 / -1;
		color: var(--ink-soft);
	}
	.speaks {
		color: var(--ink);
		font-weight: 600;
	}
	.overruled .said {
		text-decoration: line-through;
	}
</style>

<script lang="ts">
	import type { ComponentProps } from 'svelte';
	import RuleField from './RuleField.svelte';
	import RuleSteps from './RuleSteps.svelte';

	/** One rule: what it is, where it is set, what counts now and who says so. */
	type Props = ComponentProps<typeof RuleField>;
	let { one, edits, disabled, ...field }: Props = $props();
	let isOpen = $state(false);
	const isMap = $derived(one.type === 'map');
</script>

<tr class:mapped={isMap}>
	<td class="what"><b>{one.label}</b><span class="soft small block">{one.help}</span></td>
	<td class="here">
		<RuleField {one} {edits} {disabled} {...field} />
		{#if edits.isSet(one) && !disabled}<button
				type="button"
				class="link small"
				onclick={() => edits.again(one)}>inherit again</button
			>{/if}
	</td>
	<td class:num={!isMap} class:meant={isMap}>{one.said}</td>
	<td>
		<button
			type="button"
			class="link"
			aria-expanded={isOpen}
			title="Every level"
			onclick={() => (isOpen = !isOpen)}>{one.source}</button
		>
	</td>
</tr>
{#if isOpen}<tr class="steps"><td colspan="4"><RuleSteps {one} /></td></tr>{/if}

<style>
	.what {
		width: 38%;
		white-space: normal;
	}
	.here {
		width: 250px;
	}
	.mapped .here {
		min-width: 320px;
	}
	.mapped td {
		vertical-align: top;
		padding-top: 8px;
	}
	.meant {
		width: 200px;
		white-space: normal;
		vertical-align: top;
	}
	.link {
		color: var(--reed);
		text-decoration: underline;
		text-decoration-thickness: 1px;
		text-underline-offset: 2px;
		cursor: pointer;
		min-height: 24px;
		text-align: left;
	}
	.steps td {
		border-top: 0;
	}
</style>

<script lang="ts">
	import Dialogue from './Dialogue.svelte';

	type Props = { isOpen: boolean; onclose: () => void };
	let { isOpen, onclose }: Props = $props();
	const KEYS: [string, string][] = [
		['1 – 7', 'go to a station'],
		['↑ ↓', 'walk the rows'],
		['Enter', 'open the row'],
		['Space', 'select the row'],
		['w', 'open or close the Working'],
		['/', 'filter'],
		['n', 'the station’s main new thing'],
		[':', 'command line'],
		['?', 'this sheet'],
		['Escape', 'step back']
	];
	const BENCH: [string, string][] = [
		['1 – 5', 'pick a candidate (on the bench)'],
		['l', 'link to the picked candidate'],
		['u', 'undo what was just done'],
		['i', 'ignore the listing'],
		['m', 'create a new item from it']
	];
</script>

<Dialogue {isOpen} {onclose} title="Keys">
	<dl>
		{#each [...KEYS, ...BENCH] as [key, what] (key + what)}
			<dt><span class="key">{key}</span></dt>
			<dd>{what}</dd>
		{/each}
	</dl>
</Dialogue>

<style>
	dl {
		display: grid;
		grid-template-columns: 90px 1fr;
		gap: 6px 12px;
	}
</style>

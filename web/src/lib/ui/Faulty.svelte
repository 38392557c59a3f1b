<script lang="ts">
	/** Instead of a row's cells: why they could not be worked out. */
	type Props = { said: string; span: number };
	let { said, span }: Props = $props();
</script>

<td colspan={span} class="faulty">{said} A snag says so too.</td>

<style>
	.faulty {
		color: var(--madder);
		text-align: left;
	}
</style>

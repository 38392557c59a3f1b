<script lang="ts">
	/** The filter field; '/' puts the cursor in it. */
	type Props = { value: string; label?: string };
	let { value = $bindable(), label = 'Filter' }: Props = $props();
</script>

<input class="field w-[210px]" data-filter placeholder="{label}  /" aria-label={label} bind:value />

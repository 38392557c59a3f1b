<script lang="ts">
	import Thumb from './Thumb.svelte';

	/** An item by its picture and its title, which leads to it, and its number. */
	type Props = { id: number; title: string; sku: string; picture?: number | null };
	let { id, title, sku, picture }: Props = $props();
</script>

{#if picture !== undefined}<Thumb {picture} />{/if}<a class="plain-link" href="/range/items/{id}"
	>{title}</a
>
<span class="soft small whitespace-nowrap">{sku}</span>

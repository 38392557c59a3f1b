<script lang="ts">
	/** An item by its title, which leads to it, and its number. */
	type Props = { id: number; title: string; sku: string };
	let { id, title, sku }: Props = $props();
</script>

<a class="plain-link" href="/range/items/{id}">{title}</a>
<span class="soft small whitespace-nowrap">{sku}</span>

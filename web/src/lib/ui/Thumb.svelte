<script lang="ts">
	/** What something looks like, small, beside its name, which says the same; nothing where there is none, and names still align. */
	type Props = { picture: number | null };
	let { picture }: Props = $props();
</script>

{#if picture}<img
		class="thumb"
		src="/api/v1/pictures/{picture}/thumb"
		alt=""
		width="24"
		height="24"
		loading="lazy"
	/>{:else}<span class="thumb"></span>{/if}

<style>
	.thumb {
		display: inline-block;
		width: 24px;
		height: 24px;
		margin: -4px 8px -4px 0;
		vertical-align: middle;
		object-fit: contain;
		border-radius: 2px;
	}
</style>

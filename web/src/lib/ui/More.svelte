<script lang="ts">
	/** The next page of a long sheet. */
	type Props = {
		query: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
	};
	let { query }: Props = $props();
</script>

{#if query.hasNextPage}
	<div class="p-4 text-center">
		<button class="quiet" disabled={query.isFetchingNextPage} onclick={() => query.fetchNextPage()}
			>{query.isFetchingNextPage ? 'Fetching…' : 'Show more'}</button
		>
	</div>
{/if}

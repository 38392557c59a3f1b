<script lang="ts">
	import type { Problem } from '#lib/api/client.ts';

	/** Loading, refused, failed or empty: every view says which. */
	type Props = {
		query: { isPending: boolean; isError: boolean; error: unknown; refetch: () => unknown };
		isEmpty?: boolean;
		empty?: string;
		first?: { text: string; path: string };
	};
	let { query, isEmpty = false, empty = 'Nothing here yet.', first }: Props = $props();
	const problem = $derived(query.error as Problem | null);
</script>

{#if query.isPending}
	<div class="state" role="status"><span class="wait"></span> Fetching…</div>
{:else if query.isError}
	<div class="state" role="alert">
		<p class="what">
			{problem?.status === 403
				? 'Not for your role'
				: problem?.status === 404
					? 'Not found'
					: 'This could not be fetched'}
		</p>
		<p>{problem?.message}</p>
		<button class="quiet" onclick={() => query.refetch()}>Try again</button>
	</div>
{:else if isEmpty}
	<div class="state">
		<p>{empty}</p>
		{#if first}<a class="quiet" href={first.path}>{first.text}</a>{/if}
	</div>
{/if}

<style>
	.state {
		padding: 36px 20px;
		color: var(--ink-soft);
		display: grid;
		gap: 10px;
		justify-items: start;
	}
	.what {
		font-weight: 600;
		color: var(--madder);
	}
	.wait {
		width: 60px;
		height: 2px;
		background: linear-gradient(90deg, transparent, var(--reed), transparent);
		animation: slide 1.2s infinite;
	}
	@keyframes slide {
		from {
			transform: translateX(-20px);
		}
		to {
			transform: translateX(40px);
		}
	}
	@media (prefers-reduced-motion: reduce) {
		.wait {
			animation: none;
		}
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';

	/** What can be done about a drift: push ours again, or count the item. */
	type Props = { id: string };
	let { id }: Props = $props();
	const agreement = createQuery(() => ({
		queryKey: ['agreement'],
		queryFn: () => ask(api.GET('/api/v1/agreement'))
	}));
	const drift = $derived(agreement.data?.drifts.find((row) => String(row.id) === id));

	async function push(): Promise<void> {
		try {
			const done = await ask(
				api.POST('/api/v1/drifts/{drift_id}/push', { params: { path: { drift_id: Number(id) } } })
			);
			notices.say(done.said);
			await changed();
		} catch (error) {
			notices.fail(error);
		}
	}
</script>

{#if drift && session.may('resolve snags and drifts')}
	<div class="ways">
		{#if drift.listing_id}
			<button class="do" onclick={push}>Push {drift.expected} again</button>
		{/if}
		{#if drift.item_id}
			<p>
				<a href="/shelf?adjust={drift.item_id}"
					>{drift.listing_id ? 'Or count this item' : 'Count this item'}</a
				> if the shelf is wrong
			</p>
		{/if}
		{#if drift.order_id}<p><a href="/orders/{drift.order_id}">Open the order</a></p>{/if}
		{#if drift.code === 'A6'}
			<p><a href="/books/journal">Look in the journal</a>, or book it away in the ledger.</p>
		{/if}
	</div>
{/if}

<style>
	.ways {
		margin-top: 16px;
		display: grid;
		gap: 8px;
		justify-items: start;
	}
</style>

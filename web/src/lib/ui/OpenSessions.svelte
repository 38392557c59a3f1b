<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { changed } from '#lib/changes.ts';
	import { ago, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';

	/** Where somebody is signed in. */
	const found = createQuery(() => ({
		queryKey: ['sessions'],
		queryFn: () => ask(api.GET('/api/v1/account/sessions'))
	}));
	async function end(session_id: number): Promise<void> {
		try {
			await ask(
				api.DELETE('/api/v1/account/sessions/{session_id}', { params: { path: { session_id } } })
			);
			notices.say('That session was ended.');
		} catch (error) {
			notices.fail(error);
		}
		await Promise.all([changed(), found.refetch()]);
	}
</script>

<section aria-label="Sessions">
	<h2>Signed in</h2>
	{#if found.data}
		<table class="rows">
			<thead
				><tr
					><th>Device</th><th>Address</th><th>Since</th><th>Last active</th><th
						><span class="sr-only">End</span></th
					></tr
				></thead
			>
			<tbody>
				{#each found.data as row (row.id)}
					<tr data-row>
						<td>{row.device}</td>
						<td class="soft">{row.address}</td>
						<td>{moment(row.begun_at)}</td>
						<td title={moment(row.seen_at)}>{ago(row.seen_at)}</td>
						<td
							>{#if row.current}<Mark state="live" word="this session" />{:else}<button
									class="quiet"
									onclick={() => end(row.id)}>End</button
								>{/if}</td
						>
					</tr>
				{/each}
			</tbody>
		</table>
	{:else}<Pending query={found} />{/if}
</section>

<style>
	.rows {
		width: 100%;
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { moment } from '#lib/format.ts';

	/** Who changed which rules of a group, read when somebody opens it. */
	type Props = { way: string; id: number | string; labels: readonly string[] };
	let { way, id, labels }: Props = $props();
	let isOpen = $state(false);
	const changes = createQuery(() => ({
		queryKey: ['setting changes', way, id],
		queryFn: () =>
			ask(
				api.GET('/api/v1/settings/{way}/{key}/changes', { params: { path: { way, key: `${id}` } } })
			),
		enabled: isOpen
	}));
	const ours = $derived((changes.data ?? []).filter((one) => labels.includes(one.label)));
</script>

<details bind:open={isOpen}>
	<summary>Who changed what</summary>
	{#if isOpen}<table class="rows" aria-label="Changes of rules">
			<tbody>
				{#each ours as one (one.id)}<tr
						><td class="soft place">{moment(one.at)}</td><td class="place">{one.by}</td><td
							>{one.label}, {one.title}</td
						><td class="long">{one.before} → <b>{one.after}</b></td></tr
					>{:else}<tr><td class="soft">{changes.data ? 'Nobody yet.' : 'Fetching…'}</td></tr>{/each}
			</tbody>
		</table>{/if}
</details>

<style>
	details {
		margin-top: 14px;
	}
	summary {
		padding: 0 20px;
		cursor: pointer;
		color: var(--reed);
	}
</style>

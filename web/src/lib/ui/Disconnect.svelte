<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Dialogue from './Dialogue.svelte';
	import Pending from './Pending.svelte';

	/** Takes a connection out of use, after saying what stops with it and what stays. */
	type Props = { id: number; name: string; onclose: () => void };
	let { id, name, onclose }: Props = $props();
	const params = $derived({ path: { connection_id: id } });
	let busy = $state(false);
	const end = createQuery(() => ({
		queryKey: ['end of a connection', id],
		queryFn: () => ask(api.GET('/api/v1/connections/{connection_id}/end', { params }))
	}));

	async function disconnect(): Promise<void> {
		busy = true;
		try {
			await ask(api.POST('/api/v1/connections/{connection_id}/disconnect', { params }));
			notices.say(`${name} is disconnected. Its history stays.`);
			onclose();
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
</script>

<Dialogue isOpen title="Disconnect {name}" {onclose}>
	{#if end.data}
		<h3>What stops</h3>
		<ul>
			{#each end.data.stops as line (line)}<li>{line}</li>{/each}
		</ul>
		<h3>What stays</h3>
		<ul>
			{#each end.data.stays as line (line)}<li>{line}</li>{/each}
		</ul>
		<div class="foot">
			<button type="button" class="quiet" onclick={onclose}>Keep it</button>
			<button type="button" class="do" disabled={busy} onclick={disconnect}>Disconnect</button>
		</div>
	{:else}<Pending query={end} />{/if}
</Dialogue>

<style>
	h3 {
		font-weight: 600;
		margin-top: 8px;
	}
	ul {
		list-style: disc;
		padding-left: 18px;
	}
	li {
		margin: 2px 0;
	}
	.foot {
		display: flex;
		gap: 8px;
		justify-content: flex-end;
		margin-top: 14px;
	}
</style>

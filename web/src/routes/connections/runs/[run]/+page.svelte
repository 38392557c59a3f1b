<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { count, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import Facts from '#lib/ui/Facts.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.run));
	let q = $state('');
	let opened = $state(0);
	const resting = new Resting<string>(() => q);
	const run = createQuery(() => ({
		queryKey: ['run', id, resting.value],
		queryFn: () =>
			ask(
				api.GET('/api/v1/runs/{run_id}', {
					params: { path: { run_id: id }, query: { q: resting.value } }
				})
			),
		placeholderData: (before) => before
	}));
	const data = $derived(run.data);

	function laid(text: string): string {
		try {
			return JSON.stringify(JSON.parse(text), null, 2);
		} catch {
			return text;
		}
	}

	async function stop(): Promise<void> {
		try {
			const { said } = await ask(
				api.POST('/api/v1/runs/{run_id}/stop', { params: { path: { run_id: id } } })
			);
			notices.say(said);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}
</script>

<Sheet question={data ? `${data.label}, ${data.connection}` : 'Run'} tabs={CONNECTION_TABS}>
	{#snippet lead()}
		{#if data}
			<a href="/connections/{data.connection_id}">{data.connection}</a> ·
			{moment(data.started_at)}{data.seconds === null
				? ', under way'
				: `, ${data.seconds.toFixed(1)} seconds`} ·
			{data.asked_by ? `asked for by ${data.asked_by}` : 'it came by itself'}
		{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} />
			{#if data.stoppable && session.may('resolve snags and drifts')}<button
					class="quiet"
					disabled={data.stopping}
					onclick={stop}>{data.stopping ? 'Stopping…' : 'Stop'}</button
				>{/if}
			<Filter bind:value={q} />
			{#if data.calls}<a
					class="quiet"
					href="/api/v1/runs/{id}/calls?q={encodeURIComponent(q)}"
					download>Payloads as a file</a
				>{/if}
		{/if}
	{/snippet}
	{#if data}
		<Facts isOfFigures>
			{#each [['New', data.taken], ['Changed', data.changed], ['Unchanged', data.unchanged], ['Failed', data.failed], ['Calls', data.calls]] as [name, number] (name)}
				<div>
					<dt>{name}</dt>
					<dd class:bad={name === 'Failed' && Number(number) > 0}>{figure(`${number}`)}</dd>
				</div>
			{/each}
		</Facts>
		<h2>Log</h2>
		<ol class="log">
			{#each data.log as [at, text] (`${at} ${text}`)}<li>
					<span class="soft">{moment(at)}</span>
					{text}
				</li>{:else}<li class="soft">Nothing was noted.</li>{/each}
		</ol>
		<h2>What was sent and answered</h2>
		<table class="rows" aria-label="Calls">
			<thead
				><tr
					><th>When</th><th>Call</th><th class="num">Status</th><th class="num">ms</th><th>Fault</th
					></tr
				></thead
			>
			<tbody>
				{#each data.found as call (call.id)}
					<tr data-row>
						<td class="place soft">{moment(call.at)}</td>
						<td class="long"
							><button
								class="link"
								aria-expanded={opened === call.id}
								onclick={() => (opened = opened === call.id ? 0 : call.id)}
								><b>{call.method}</b> {call.path}</button
							></td
						>
						<td class="num" class:bad={call.status === null || call.status >= 300}
							>{call.status ?? 'none'}</td
						>
						<td class="num">{call.milliseconds}</td>
						<td class="long bad">{call.fault}</td>
					</tr>
					{#if opened === call.id}<tr class="opened"
							><td colspan="5"
								><div class="payloads">
									<div>
										<h3>Sent</h3>
										<textarea readonly aria-label="Sent" value={laid(call.sent) || 'nothing'}
										></textarea>
									</div>
									<div>
										<h3>Answered</h3>
										<textarea
											readonly
											aria-label="Answered"
											value={laid(call.received) || 'nothing'}
										></textarea>
									</div>
								</div></td
							></tr
						>{/if}
				{:else}<tr
						><td colspan="5" class="soft"
							>{data.calls
								? 'None of its calls holds that.'
								: 'No call was kept: payloads are deleted after some days.'}</td
						></tr
					>{/each}
			</tbody>
		</table>
	{:else}<Pending query={run} />{/if}
	{#snippet totals()}{#if data}<span
				>{count(data.found.length, 'call')}{data.found.length < data.calls
					? ` of ${data.calls}`
					: ''}</span
			>{/if}{/snippet}
</Sheet>

<style>
	h2 {
		padding: 14px 20px 4px;
	}
	h3 {
		font-size: 12px;
		font-weight: 600;
		color: var(--ink-soft);
	}
	.log {
		padding: 0 20px;
	}
	.link {
		text-align: left;
		color: var(--reed);
		cursor: pointer;
		overflow-wrap: anywhere;
		min-height: 24px;
	}
	.payloads {
		display: grid;
		grid-template-columns: 1fr 1fr;
		gap: 16px;
	}
	textarea {
		width: 100%;
		height: 300px;
		resize: vertical;
		font:
			12px/18px ui-monospace,
			monospace;
		padding: 8px;
		color: var(--ink);
		background: var(--paper);
		border: 1px solid var(--rule);
	}
	.bad {
		color: var(--madder);
	}
</style>

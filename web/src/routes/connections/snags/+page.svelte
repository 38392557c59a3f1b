<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { ago, count, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	type Group = Schemas['SnagGroup'];
	let q = $state('');
	let chosen = $state('');
	let asideAll = $state<Group | null>(null);
	const keyOf = (group: Group): string => `${group.kind}|${group.connection_id ?? 0}`;
	const cause = $derived(chosen.split('|'));
	let shown = $state<Schemas['SnagOut'] | null>(null);
	let aside = $state<Schemas['SnagOut'] | null>(null);
	let why = $state('');
	const snags = createQuery(() => ({
		queryKey: ['snags', q, chosen],
		queryFn: () =>
			ask(
				api.GET('/api/v1/snags', {
					params: {
						query: {
							q,
							kind: cause[0] ?? '',
							connection: Number(cause[1]) || undefined,
							limit: 100
						}
					}
				})
			),
		placeholderData: (before) => before
	}));
	const rows = $derived(snags.data?.rows ?? []);
	const groups = $derived(snags.data?.groups ?? []);
	const group = $derived(groups.find((one) => keyOf(one) === chosen));
	const may = $derived(session.may('resolve snags and drifts'));

	async function act(work: () => Promise<{ said: string }>): Promise<void> {
		try {
			notices.say((await work()).said);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}
	const retry = (id: number): Promise<void> =>
		act(() =>
			ask(api.POST('/api/v1/snags/{snag_id}/retry', { params: { path: { snag_id: id } } }))
		);

	const retryAll = (of: Group): Promise<void> =>
		act(() =>
			ask(
				api.POST('/api/v1/snags/retry', {
					body: { kind: of.kind, connection_id: of.connection_id }
				})
			)
		);

	async function setAllAside(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const of = asideAll;
		asideAll = null;
		if (of)
			await act(() =>
				ask(
					api.POST('/api/v1/snags/aside', {
						body: { kind: of.kind, connection_id: of.connection_id, why }
					})
				)
			);
		why = '';
	}

	async function setAside(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const id = aside?.id ?? 0;
		aside = null;
		await act(() =>
			ask(
				api.POST('/api/v1/snags/{snag_id}/aside', {
					params: { path: { snag_id: id } },
					body: { why }
				})
			)
		);
		why = '';
	}
</script>

<Sheet question="What could not be done?" tabs={CONNECTION_TABS}>
	{#snippet lead()}Nothing is lost: each waits here with its cause and what was sent, until it is
		tried again or set aside.{/snippet}
	{#snippet filters()}<Filter bind:value={q} />
		<select class="field" aria-label="Cause" bind:value={chosen}>
			<option value="">every cause</option>
			{#each groups as one (keyOf(one))}<option value={keyOf(one)}
					>{one.label}{one.connection ? `, ${one.connection}` : ''} ({one.count})</option
				>{/each}
		</select>
		{#if group && may}
			<button class="quiet" onclick={() => group && retryAll(group)}
				>Try all {group.count} again</button
			>
			<button class="quiet" onclick={() => (asideAll = group ?? null)}
				>Set all {group.count} aside</button
			>
		{/if}
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead><tr><th>Snag</th><th>Why</th><th>Connection</th><th>Since</th><th></th></tr></thead>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row>
						<td class="long"
							>{#if row.order_id}<a href="/orders/{row.order_id}">{row.title}</a>{:else}<b
									>{row.title}</b
								>{/if}</td
						>
						<td class="long"
							>{row.fault || row.detail}{#if row.field}<span class="soft small"
									>&nbsp;({row.field})</span
								>{/if}</td
						>
						<td class="place">{row.connection}</td>
						<td class="place" title={moment(row.made_at)}>{ago(row.made_at)}</td>
						<td class="num">
							{#if row.payload}<button class="quiet" onclick={() => (shown = row)}>Payload</button
								>{/if}
							{#if may}<button class="quiet" onclick={() => retry(row.id)}>Try again</button>
								<button class="quiet" onclick={() => (aside = row)}>Set aside</button>{/if}
						</td>
					</tr>
				{/each}
			</tbody>
		</table>
	{:else}<Pending query={snags} isEmpty empty="No snags. Everything was done." />{/if}
	{#snippet totals()}<span>{count(rows.length, 'snag')}</span>{/snippet}
</Sheet>
<Dialogue isOpen={shown !== null} title={shown?.title ?? ''} wide onclose={() => (shown = null)}>
	<pre class="payload">{JSON.stringify(shown?.payload, null, 2)}</pre>
</Dialogue>
<Dialogue
	isOpen={asideAll !== null}
	title="Set {asideAll?.count ?? 0} aside"
	onclose={() => (asideAll = null)}
>
	<form class="grid gap-3" onsubmit={setAllAside}>
		<label class="ask">Why? <input class="field" required maxlength="200" bind:value={why} /></label
		>
		<div class="text-right"><button class="do">Set them aside</button></div>
	</form>
</Dialogue>
<Dialogue isOpen={aside !== null} title="Set it aside" onclose={() => (aside = null)}>
	<form class="grid gap-3" onsubmit={setAside}>
		<label class="ask">Why? <input class="field" required maxlength="200" bind:value={why} /></label
		>
		<div class="text-right"><button class="do">Set aside</button></div>
	</form>
</Dialogue>

<style>
	.payload {
		max-height: 60vh;
		overflow: auto;
		font-size: 12px;
		background: var(--sheet);
		padding: 10px;
		border: 1px solid var(--rule);
	}
	td.num .quiet {
		padding: 2px 8px;
		margin-left: 4px;
	}
</style>

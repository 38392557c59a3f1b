<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import Candidates from '#lib/ui/Candidates.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import PublicationRow from '#lib/ui/PublicationRow.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { connection_id: id } });
	const connection = createQuery(() => ({
		queryKey: ['connection', id],
		queryFn: () => ask(api.GET('/api/v1/connections/{connection_id}', { params }))
	}));
	let q = $state('');
	let show = $state('');
	let chosen = $state<number[]>([]);
	let busy = $state(false);
	const sheet = createQuery(() => ({
		queryKey: ['publications', id, show, q],
		queryFn: () =>
			ask(
				api.GET('/api/v1/connections/{connection_id}/publications', {
					params: { ...params, query: { state: show, q, limit: 200 } }
				})
			),
		placeholderData: (before) => before
	}));
	const rows = $derived(sheet.data?.rows ?? []);
	const counts = $derived(sheet.data?.counts ?? {});
	const open = $derived(rows.filter((row) => ['prepared', 'refused'].includes(row.state)));
	const whole = $derived(open.filter((row) => !row.problems.length));
	/** Where a page does not hold all of them, everything that is complete goes, seen or not. */
	const isAll = $derived(Boolean(sheet.data?.next) && !chosen.length);
	const may = $derived(session.may('pair listings'));
	const isLive = $derived(connection.data?.state === 'live');
	const STATES = ['prepared', 'waiting', 'refused', 'listed'];

	/** What its categories ask, and what is filled in that they do not allow: words that rules give a meaning. */
	const asked = $derived((sheet.data?.categories ?? []).flatMap((one) => one.attributes));
	const unknown = $derived([...new Set(rows.flatMap((row) => row.unknown))]);
	const words = $derived([
		...[...new Set(asked.map((one) => one.name))].map((word) => ({
			sort: 'attributes_there',
			word,
			proposed: '',
			title: ''
		})),
		...unknown.map((word) => ({ sort: 'values_there', word, proposed: '', title: '' }))
	]);
	/** The values that an attribute allows, for each word that begins with its name. */
	const allowedOf = (word: string): readonly string[] =>
		asked.find((one) => one.values.length && word.startsWith(`${one.name}: `))?.values ?? [];
	const allowed = $derived({
		values_there: Object.fromEntries(unknown.map((word) => [word, allowedOf(word)]))
	});

	async function act(work: () => Promise<{ said: string }>): Promise<void> {
		busy = true;
		try {
			notices.say((await work()).said);
			chosen = [];
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
	const publish = (ids: number[]): Promise<void> =>
		act(() =>
			ask(api.POST('/api/v1/connections/{connection_id}/publish', { params, body: { ids } }))
		);
	const forget = (): Promise<void> =>
		act(() =>
			ask(
				api.POST('/api/v1/connections/{connection_id}/publications/forget', {
					params,
					body: { ids: chosen }
				})
			)
		);
	const pick = (row: number): void => {
		chosen = chosen.includes(row) ? chosen.filter((one) => one !== row) : [...chosen, row];
	};
</script>

<Sheet question="What shall be listed?" tabs={CONNECTION_TABS}>
	{#snippet lead()}
		{#if connection.data}New listings on <a href="/connections/{id}">{connection.data.name}</a>:
			items are prepared, what is asked for is filled in, and what came of each is said here.{/if}
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="Show" bind:value={show}>
			<option value="">everything prepared so far</option>
			{#each STATES as state (state)}<option value={state}>{state} ({counts[state] ?? 0})</option
				>{/each}
		</select>
		{#if may}
			<button
				class="do"
				disabled={busy || !isLive || !(isAll || chosen.length || whole.length)}
				title={isLive ? '' : 'Once the connection is live'}
				onclick={() => publish(isAll ? [] : chosen.length ? chosen : whole.map((row) => row.id))}
				>{isAll
					? 'Publish all that are complete'
					: chosen.length
						? `Publish ${count(chosen.length, 'chosen one', 'chosen ones')}`
						: `Publish ${count(whole.length, 'complete one', 'complete ones')}`}</button
			>
			{#if chosen.length}<button class="quiet" disabled={busy} onclick={forget}>Take away</button
				>{/if}
		{/if}
	{/snippet}
	{#if sheet.data}
		{#if rows.length}
			<table class="rows" aria-label="Prepared">
				<thead
					><tr
						><th></th><th>Item</th><th>As it would look there</th><th>Category and what it asks</th
						><th class="num">Price</th><th>State</th></tr
					></thead
				>
				<tbody>
					{#each rows as row (row.id)}
						<PublicationRow
							{row}
							categories={sheet.data.categories}
							{may}
							isChosen={chosen.includes(row.id)}
							onpick={() => pick(row.id)}
						/>
					{/each}
				</tbody>
			</table>
			{#if sheet.data.next}<p class="empty">The first {rows.length}; filter to see others.</p>{/if}
		{:else}<p class="empty">
				Nothing is prepared yet. Choose items below that are not listed there.
			</p>{/if}
		<Candidates {id} {may} />
		<section>
			<h2>Content</h2>
			<Rules way="connection" {id} group="Content" {words} {allowed} />
		</section>
	{:else}<Pending query={sheet} />{/if}
</Sheet>

<style>
	h2 {
		padding: 22px 20px 4px;
	}
	.empty {
		padding: 18px 20px;
		color: var(--ink-soft);
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { goto } from '$app/navigation';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { ago, count, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	let kind = $state(page.url.searchParams.get('kind') ?? 'items');
	const id = $derived(Number(page.url.searchParams.get('file') ?? 0));
	let refusal = $state('');
	let busy = $state(false);
	let isWhole = $state(false);
	const kinds = createQuery(() => ({
		queryKey: ['import kinds'],
		queryFn: () => ask(api.GET('/api/v1/imports/kinds'))
	}));
	const newest = createQuery(() => ({
		queryKey: ['imports'],
		queryFn: () => ask(api.GET('/api/v1/imports'))
	}));
	const one = createQuery(() => ({
		queryKey: ['import', id],
		queryFn: () =>
			ask(api.GET('/api/v1/imports/{import_id}', { params: { path: { import_id: id } } })),
		enabled: id > 0
	}));
	const of = $derived(kinds.data?.find((row) => row.name === (data?.kind ?? kind)));
	const data = $derived(id ? one.data : undefined);
	const may = $derived(of && session.may(of.ability));
	const ready = $derived((data?.counts['new'] ?? 0) + (data?.counts['changed'] ?? 0));
	const wrong = $derived(data?.counts['wrong'] ?? 0);

	async function send(event: Event): Promise<void> {
		const input = event.target as HTMLInputElement;
		const file = input.files?.[0];
		if (!file) return;
		busy = true;
		refusal = '';
		const form = new FormData();
		form.append('file', file);
		try {
			const sent = await ask(
				api.POST('/api/v1/imports/{kind}', {
					params: { path: { kind } },
					body: { file: '' },
					bodySerializer: () => form
				})
			);
			await goto(`/range/sheets?kind=${kind}&file=${sent.id}`);
		} catch (error) {
			refusal = (error as Error).message;
		}
		input.value = '';
		busy = false;
		await changed();
	}

	/** Of the files that are taken away. */
	let form = $state<'csv' | 'xlsx'>('csv');

	async function act(work: () => Promise<unknown>): Promise<void> {
		busy = true;
		try {
			await work();
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
	const path = $derived({ import_id: id });
	const confirm = (whole: boolean): Promise<void> =>
		act(() =>
			ask(api.POST('/api/v1/imports/{import_id}/confirm', { params: { path }, body: { whole } }))
		);
	const stop = (): Promise<void> =>
		act(() => ask(api.POST('/api/v1/imports/{import_id}/stop', { params: { path } })));
	const undo = (): Promise<void> =>
		act(async () => {
			const back = await ask(api.POST('/api/v1/imports/{import_id}/undo', { params: { path } }));
			await goto(`/range/sheets?kind=${back.kind}&file=${back.id}`);
		});
	const MARKS: Record<string, string> = {
		new: 'ready',
		changed: 'pending',
		wrong: 'refused',
		unchanged: 'closed'
	};
	const STATES: Record<string, string> = {
		checking: 'running',
		checked: 'ready',
		applying: 'running',
		done: 'done',
		stopped: 'paused',
		failed: 'failed'
	};
</script>

<Sheet question="What comes in by file, and goes out?" tabs={RANGE_TABS}>
	{#snippet lead()}
		A CSV or a workbook is checked first, row by row; nothing is changed until you say so.
	{/snippet}
	{#snippet filters()}
		<select
			class="field"
			aria-label="Sheet"
			bind:value={kind}
			onchange={() => goto(`/range/sheets?kind=${kind}`)}
		>
			{#each kinds.data ?? [] as row (row.name)}<option value={row.name}>{row.title}</option>{/each}
		</select>
		<label class="do" class:off={!may || busy}
			>Choose a file <input
				type="file"
				accept=".csv,.xlsx,text/csv"
				class="sr-only"
				disabled={!may || busy}
				onchange={send}
			/></label
		>
		<a class="quiet" href="/api/v1/imports/{kind}/template?form={form}" download
			>Template with an example</a
		>
		<a class="quiet" href="/api/v1/imports/{kind}/everything?form={form}" download
			>Export everything</a
		>
		<select class="field" aria-label="Files as" bind:value={form}>
			<option value="csv">as CSV</option>
			<option value="xlsx">as a workbook</option>
		</select>
		{#if of && !may}<span class="soft">Your role can export this sheet, not import it.</span>{/if}
	{/snippet}
	<div class="page">
		{#if refusal}<p class="bad" role="alert">{refusal}</p>{/if}
		{#if id && !data}<Pending query={one} />
		{:else if data}
			<section aria-label="File">
				<h2>
					{data.name}
					<span class="soft small"
						>sent by {data.by}
						{ago(data.made_at)}{#if data.state !== 'checking' && data.total}, {count(
								data.total,
								'row'
							)}{/if}</span
					>
				</h2>
				{#if data.state === 'checking'}
					<p role="status" class="at-work">
						<progress max={data.total || 1} value={data.done} aria-label="Rows read"></progress>
						{data.total
							? `${figure(`${data.done}`, '0')} of ${figure(`${data.total}`)} read`
							: 'Reading the file…'}
						<button class="quiet" disabled={busy} onclick={stop}>Stop</button>
					</p>
				{:else if data.state !== 'failed'}
					<div class="counts">
						{#each ['new', 'changed', 'unchanged', 'wrong'] as name (name)}
							<span class="count"
								><b>{figure(`${data.counts[name] ?? 0}`, '0')}</b>
								<Mark state={MARKS[name] ?? ''} word={name} /></span
							>
						{/each}
					</div>
					{#if data.unknown.length}<p class="look">
							Not read, as this sheet has no such column: {data.unknown.join(', ')}.
						</p>{/if}
				{/if}
				{#if data.state === 'applying'}
					<p role="status" class="at-work">
						<progress max={ready || 1} value={data.done} aria-label="Rows taken in"></progress>
						{figure(`${data.done}`, '0')} of {figure(`${ready}`)} taken in
						<button class="quiet" disabled={busy} onclick={stop}>Stop</button>
					</p>
				{:else if data.state === 'checked' || data.state === 'stopped'}
					<p class="acts">
						{#if data.said}<span>{data.said}</span>{/if}
						{#if ready && may}
							<button class="do" disabled={busy} onclick={() => confirm(isWhole && !wrong)}
								>{data.state === 'stopped'
									? 'Go on'
									: wrong
										? `Take in the ${figure(`${ready}`)} good rows`
										: `Take in ${count(ready, 'row')}`}</button
							>
							{#if !wrong}<label class="tick"
									><input type="checkbox" bind:checked={isWhole} /> All of them or none</label
								>{/if}
						{:else if !ready}<span>There is nothing to change.</span>{/if}
						{#if wrong}<a class="quiet" href="/api/v1/imports/{id}/left-out?form={form}" download
								>The {count(wrong, 'wrong row')} as a file to correct</a
							>{/if}
					</p>
				{:else if data.said}<p role="status" class:bad={data.state === 'failed'}>
						<Mark state={STATES[data.state] ?? ''} word={data.state} />
						{data.said}
						{#if wrong}<a href="/api/v1/imports/{id}/left-out?form={form}" download
								>The wrong rows as a file to correct</a
							>{/if}
						{#if data.undone}<span class="soft">It was undone, or is about to be.</span>
						{:else if data.undo_rows && may}<button class="quiet" disabled={busy} onclick={undo}
								>Undo {count(data.undo_rows, 'change')}</button
							>{/if}
					</p>{/if}
			</section>
			{#if data.shown.length}
				<table class="rows cols" aria-label="Rows">
					<thead
						><tr
							><th class="num">Line</th><th>Which</th><th>Outcome</th><th
								>What changes, or what is wrong</th
							></tr
						></thead
					>
					<tbody>
						{#each data.shown as row, n (n)}
							<tr data-row
								><td class="num">{row.line}</td><td>{row.key}</td><td
									><Mark state={MARKS[row.outcome] ?? ''} word={row.outcome} /></td
								><td class="long">{@render what(row)}</td></tr
							>
						{/each}
					</tbody>
				</table>
				{#if ready + wrong > data.shown.length}<p class="soft">The first of each are shown.</p>{/if}
			{/if}
		{:else if of}
			<section>
				<h2>Columns of {of.title.toLowerCase()}</h2>
				<p class="soft">
					In any order; an empty cell leaves what is there as it is, one that says <code
						>(empty)</code
					> clears it.
				</p>
				<table class="rows cols">
					<thead><tr><th>Column</th><th>What it holds</th><th>Example</th></tr></thead>
					<tbody
						>{#each of.columns as column (column.name)}<tr
								><td
									><code>{column.name}</code>&nbsp;{#if column.needed}<span class="soft small">
											needed</span
										>{/if}</td
								><td class="long">{column.words}</td><td class="soft">{column.example}</td></tr
							>{/each}</tbody
					>
				</table>
			</section>
			<section>
				<h2>Files sent in</h2>
				<table class="rows">
					<thead
						><tr
							><th>When</th><th>File</th><th>Sheet</th><th>By</th><th class="num">Rows</th><th
								>State</th
							><th>Outcome</th></tr
						></thead
					>
					<tbody>
						{#each newest.data ?? [] as row (row.id)}
							<tr data-row
								><td class="soft place">{moment(row.made_at)}</td><td
									><a class="plain-link" href="/range/sheets?kind={row.kind}&file={row.id}"
										>{row.name}</a
									></td
								><td class="soft">{kinds.data?.find((one) => one.name === row.kind)?.title}</td><td
									class="soft">{row.by}</td
								><td class="num">{figure(`${row.total}`)}</td><td
									><Mark state={STATES[row.state] ?? ''} word={row.state} /></td
								><td class="long soft">{row.said}</td></tr
							>
						{:else}<tr><td colspan="7" class="soft">None yet.</td></tr>{/each}
					</tbody>
				</table>
			</section>
		{:else}<Pending query={kinds} />{/if}
	</div>
</Sheet>

{#snippet what(row: Schemas['IntakeLine'])}
	{#each row.faults as [column, value, reason], n (n)}<span class="bad"
			><code>{column}</code> {value || 'empty'} {reason}</span
		>{/each}
	{#each row.changes as [name, before, after], n (n)}{n ? '; ' : ''}<span class="soft">{name}</span>
		{#if row.outcome === 'changed'}{before || 'empty'} →{/if} <b>{after || 'empty'}</b>{/each}
{/snippet}

<style>
	.page {
		display: grid;
		gap: 20px;
		padding: 16px 0 30px;
	}
	h2,
	p,
	.counts {
		padding: 0 20px;
	}
	.counts {
		display: flex;
		gap: 28px;
		margin: 10px 0;
	}
	.count b {
		font-size: 22px;
		margin-right: 6px;
	}
	.acts,
	.at-work {
		display: flex;
		gap: 12px;
		align-items: center;
		flex-wrap: wrap;
	}
	.tick {
		display: flex;
		gap: 7px;
		align-items: center;
		min-height: 24px;
	}
	progress {
		width: 260px;
		accent-color: var(--reed);
	}
	.look {
		color: var(--ochre);
	}
	.bad {
		color: var(--madder);
	}
	.off {
		opacity: 0.55;
	}
	.cols {
		width: auto;
		min-width: 760px;
	}
</style>

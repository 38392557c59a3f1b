<script lang="ts">
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { save } from '#lib/download.ts';
	import { count, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Sheet from '#lib/ui/Sheet.svelte';

	const COLUMNS = [
		['sku', 'of an existing item; case does not matter', 'SMK-BRS-S'],
		['location', 'its name or its short name', 'tannery-yard'],
		['quantity', 'units counted there; decimal point or comma', '44'],
		['unit_cost', 'cost of one unit in the company’s currency, without tax', '13.70'],
		['lot', 'only for items that expire', 'L2611'],
		['expires_on', 'the lot’s date, year first', '2027-05-31']
	] as const;
	let checked = $state<Schemas['OpeningCheck'] | null>(null);
	let refusal = $state('');
	let busy = $state(false);
	let name = $state('');
	let chosen: File | null = null;
	const may = $derived(session.may('take in opening stock'));

	async function check(event: Event): Promise<void> {
		const file = (event.target as HTMLInputElement).files?.[0];
		if (!file) return;
		name = file.name;
		chosen = file;
		busy = true;
		refusal = '';
		checked = null;
		const form = new FormData();
		form.append('file', file);
		try {
			checked = await ask(
				api.POST('/api/v1/opening/check', {
					body: { file: '' },
					bodySerializer: () => form
				})
			);
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
	}

	/** The rows left out, each with what is wrong with it, as a file to put right and choose again. */
	async function leftOut(): Promise<void> {
		if (!chosen) return;
		const form = new FormData();
		form.append('file', chosen);
		try {
			const text = await ask(
				api.POST('/api/v1/opening/left-out', {
					body: { file: '' },
					bodySerializer: () => form,
					parseAs: 'blob'
				})
			);
			save(text as unknown as Blob, 'left-out.csv');
		} catch (error) {
			notices.fail(error);
		}
	}

	async function take(): Promise<void> {
		if (!checked) return;
		busy = true;
		const form = new FormData();
		form.append('token', checked.token);
		try {
			const done = await ask(
				api.POST('/api/v1/opening', { body: { token: checked.token }, bodySerializer: () => form })
			);
			notices.say(done.said);
			checked = null;
			await changed();
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
	}
</script>

<Sheet question="Opening stock: what did we have at the start?" tabs={SHELF_TABS}>
	{#snippet lead()}
		A CSV of SKU, location, quantity and unit cost. It is checked first; nothing is imported until
		you confirm.
	{/snippet}
	{#snippet filters()}
		<a class="quiet" href="/api/v1/opening/template" download>Download a template with examples</a>
		<label class="quiet" class:off={!may}
			>Choose a file <input
				type="file"
				accept=".csv,text/csv"
				class="sr-only"
				disabled={!may || busy}
				onchange={check}
			/></label
		>
		{#if name}<span class="soft">{name}</span>{/if}
		{#if !may}<span class="soft">Only a manager or bookkeeper can import opening stock.</span>{/if}
	{/snippet}
	<div class="page">
		{#if refusal}<p class="bad" role="alert">{refusal}</p>{/if}
		{#if checked}
			{#if checked.faults.length}
				<div class="over">
					<h2>{count(checked.bad, 'row')} will be left out</h2>
					<button class="quiet" onclick={leftOut}
						>Download {checked.bad === 1 ? 'it' : 'them'} with the reasons</button
					>
				</div>
				<table class="rows">
					<thead><tr><th>Line</th><th>Column</th><th>Value</th><th>Why</th></tr></thead>
					<tbody>
						{#each checked.faults as fault, n (n)}
							<tr
								><td>{fault.line}</td><td>{fault.column}</td><td
									><code>{fault.value || 'empty'}</code></td
								><td class="bad">{fault.reason}</td></tr
							>
						{/each}
					</tbody>
				</table>
				{#if checked.bad > new Set(checked.faults.map((fault) => fault.line)).size}
					<p class="soft">The first of them are shown; the download has all.</p>
				{/if}
			{/if}
			{#if checked.good}
				<h2>{count(checked.good, 'row')} ready</h2>
				<table class="rows">
					<thead
						><tr
							><th>Line</th><th>SKU</th><th>Location</th><th class="num">Quantity</th><th
								class="num">Unit cost</th
							><th class="num">Value {session.currency}</th></tr
						></thead
					>
					<tbody>
						{#each checked.rows as row (row.line)}
							<tr
								><td class="soft">{row.line}</td><td>{row.sku}</td><td>{row.location}</td><td
									class="num">{figure(row.quantity)}</td
								><td class="num">{figure(row.unit_cost)}</td><td class="num">{figure(row.value)}</td
								></tr
							>
						{/each}
					</tbody>
				</table>
				{#if checked.good > checked.rows.length}
					<p class="soft">
						The first {checked.rows.length} are shown; all {count(checked.good, 'row')} are imported.
					</p>
				{/if}
			{/if}
		{:else if !refusal}
			<p class="soft">
				{busy ? 'Reading…' : 'No file chosen yet. The columns, in any order:'}
			</p>
			<table class="rows">
				<thead><tr><th>Column</th><th>What it contains</th><th>Example</th></tr></thead>
				<tbody>
					{#each COLUMNS as [name, what, example] (name)}
						<tr><td><b>{name}</b></td><td>{what}</td><td><code>{example}</code></td></tr>
					{/each}
				</tbody>
			</table>
		{/if}
	</div>
	{#snippet totals()}
		{#if checked}
			<span>Value <b class="double">{figure(checked.value)}</b> {session.currency}</span>
			<button class="do ml-auto" disabled={busy || !checked.good} onclick={take}
				>{busy ? 'Importing…' : `Import ${count(checked.good, 'row')}`}</button
			>
		{/if}
	{/snippet}
</Sheet>

<style>
	.page {
		padding: 16px 0;
		display: grid;
		gap: 12px;
	}
	.page > p,
	.page > h2,
	.over {
		padding: 0 20px;
	}
	.over {
		display: flex;
		align-items: baseline;
		gap: 16px;
	}
	.bad {
		color: var(--madder);
	}
	.off {
		opacity: 0.55;
	}
	label:focus-within {
		outline: 2px solid var(--reed);
	}
</style>

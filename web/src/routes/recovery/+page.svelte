<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { changed } from '#lib/changes.ts';
	import { count, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';

	type Found = Schemas['FoundOut'];
	const query = createQuery(() => ({
		queryKey: ['recovery'],
		queryFn: () => ask(api.GET('/api/v1/recovery'))
	}));
	const data = $derived(query.data);
	let busy = $state(false);
	let leaving = $state<{ id: number; why: string } | null>(null);
	const may = $derived(session.may('connect channels'));
	const open = $derived((data?.found ?? []).filter((row) => row.state === 'open'));
	const KINDS: { kind: Found['kind']; title: string; does: string; what: string }[] = [
		{
			kind: 'shipment',
			title: 'Shipments that left',
			does: 'Take in as shipped',
			what: 'Their channel knows them as shipped, and here they wait. They are taken in with the day they left; the channel is not told a second time.'
		},
		{
			kind: 'purchase order',
			title: 'Purchase orders that suppliers hold',
			does: 'Take in as sent',
			what: 'They are written here again as they were sent; their units are incoming.'
		},
		{
			kind: 'ledger document',
			title: 'Documents in the ledger',
			does: 'Take back there',
			what: 'Adjustments, receipts and costs booked there that nothing here stands for. Each is booked here and taken back in the ledger; what it stood for is entered anew.'
		}
	];
	const MARKS = { open: 'pending', 'taken in': 'done', 'undone there': 'done' } as Record<
		string,
		string
	>;

	async function act(work: () => Promise<{ said?: string } | unknown>): Promise<void> {
		busy = true;
		try {
			const done = (await work()) as { said?: string };
			if (done?.said) notices.say(done.said);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
	const askAll = (): Promise<void> => act(() => ask(api.POST('/api/v1/recovery/ask')));
	const takeAll = (kind: Found['kind']): Promise<void> =>
		act(() => ask(api.POST('/api/v1/recovery/take-all', { body: { kind } })));
	const take = (found_id: number): Promise<void> =>
		act(() =>
			ask(api.POST('/api/v1/recovery/found/{found_id}/take', { params: { path: { found_id } } }))
		);
	const leave = (): Promise<void> =>
		act(async () => {
			if (!leaving) return;
			const { id, why } = leaving;
			await ask(
				api.POST('/api/v1/recovery/found/{found_id}/leave', {
					params: { path: { found_id: id } },
					body: { why }
				})
			);
			leaving = null;
		});
	const send = (): Promise<void> =>
		act(() =>
			ask(api.POST('/api/v1/recovery/send', { body: { without: data!.silent.length > 0 } }))
		);
</script>

<Sheet
	question={data?.held === false
		? 'Nothing is held back.'
		: 'What happened after the backup was made?'}
>
	{#snippet lead()}
		{#if data?.held}Restored {moment(data.begun_at)}; the data reaches to {moment(data.data_until)}.
			Nothing goes out until you agree.{:else if data}This installation sends and takes in as
			always.{/if}
	{/snippet}
	{#snippet filters()}
		{#if data?.held && may}
			<button class={data.asked_at ? 'quiet' : 'do'} disabled={busy} onclick={askAll}
				>{data.asked_at ? 'Ask again' : 'Ask every connection what it holds'}</button
			>
			{#if data.asked_at && !open.length}<button class="do" disabled={busy} onclick={send}
					>{data.silent.length
						? `Send again without ${data.silent.join(', ')}`
						: 'Send again'}</button
				>{/if}
			{#if data.asking}<span role="status" class="soft">Asking…</span>{/if}
		{/if}
	{/snippet}
	{#if data?.held}
		<Thing>
			{#each KINDS as of (of.kind)}
				{@const rows = data.found.filter((row) => row.kind === of.kind)}
				{@const waiting = rows.filter((row) => row.state === 'open').length}
				{#if rows.length}
					<section aria-label={of.title}>
						<h2>
							{of.title}
							{#if waiting && may}<button
									class="do"
									disabled={busy}
									onclick={() => takeAll(of.kind)}>{of.does}: all {waiting}</button
								>{/if}
						</h2>
						<p class="soft what">{of.what}</p>
						<table class="rows">
							<thead
								><tr
									><th>What</th><th>There</th><th>At</th><th>State</th><th
										><span class="sr-only">Actions</span></th
									></tr
								></thead
							>
							<tbody>
								{#each rows as row (row.id)}
									<tr data-row>
										<td>{row.title}</td>
										<td
											>{row.said}{#if row.fault}<br /><span class="bad small">{row.fault}</span
												>{/if}</td
										>
										<td class="soft">{row.connection}</td>
										<td title={row.why || row.settled_by}
											><Mark state={MARKS[row.state] ?? 'paused'} word={row.state} /></td
										>
										<td class="acts">
											{#if row.state === 'open' && may}
												{#if leaving?.id === row.id}
													<input
														class="field"
														aria-label="Why it stays"
														placeholder="Why it stays"
														bind:value={leaving.why}
													/>
													<button class="quiet" disabled={busy} onclick={leave}>Keep</button>
												{:else}
													<button class="quiet" disabled={busy} onclick={() => take(row.id)}
														>{of.does}</button
													>
													<button
														class="quiet"
														disabled={busy}
														onclick={() => (leaving = { id: row.id, why: '' })}>Leave</button
													>
												{/if}
											{/if}
										</td>
									</tr>
								{/each}
							</tbody>
						</table>
					</section>
				{/if}
			{/each}
			{#if !data.found.length}
				<p class="none">
					{data.asked_at
						? 'Nothing was found that is not here.'
						: 'Ask first: shops, tills, inboxes and the ledger say what they hold that the backup does not know.'}
				</p>
			{/if}
			{#snippet side()}
				{#if data.said.length}
					<section aria-label="Answers">
						<h2>What they answered</h2>
						{#each data.said as row (row.connection)}<p>
								<b>{row.connection}</b>
								<span class:bad={data.silent.includes(row.connection)}>{row.what}</span>
							</p>{/each}
					</section>
				{/if}
				<section aria-label="Numbers">
					<h2>Numbers go on from</h2>
					<p class="soft small">
						Past any that may have been given out since the backup; epoch {data.epoch}.
					</p>
					<table class="rows">
						<tbody
							>{#each data.series as row (row.kind)}<tr
									><td>{row.kind}</td><td class="num">{row.next}</td></tr
								>{/each}</tbody
						>
					</table>
				</section>
				<p class="soft small">
					{count(open.length, 'finding')} open. What only mail or paper knows is in nobody’s answers:
					purchase orders sent by mail, counts and notes made after the backup.
				</p>
			{/snippet}
		</Thing>
	{:else if data}
		<p class="none">
			When a backup was brought back, or a standby took over, this page shows what shops, tills,
			inboxes and the ledger hold that the backup does not know.
		</p>
	{:else}<Pending {query} />{/if}
</Sheet>

<style>
	h2 {
		display: flex;
		gap: 14px;
		align-items: center;
	}
	h2 button {
		font:
			600 14px 'Source Sans 3 Variable',
			sans-serif;
	}
	.what,
	.none {
		padding: 0 20px 8px;
		max-width: 76ch;
	}
	.none {
		padding-top: 20px;
	}
	.rows {
		width: 100%;
	}
	.acts {
		display: flex;
		gap: 8px;
		justify-content: end;
	}
</style>

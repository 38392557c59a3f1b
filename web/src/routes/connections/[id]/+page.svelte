<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { ago, count, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import Batches from '#lib/ui/Batches.svelte';
	import ChannelGroups from '#lib/ui/ChannelGroups.svelte';
	import ConnectionHealth from '#lib/ui/ConnectionHealth.svelte';
	import ConnectionSettings from '#lib/ui/ConnectionSettings.svelte';
	import Disconnect from '#lib/ui/Disconnect.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import SetUp from '#lib/ui/SetUp.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { connection_id: id } });
	const connection = createQuery(() => ({
		queryKey: ['connection', id],
		queryFn: () => ask(api.GET('/api/v1/connections/{connection_id}', { params }))
	}));
	const data = $derived(connection.data);
	let busy = $state('');
	let isEnding = $state(false);
	const codes = $derived(
		(data?.test_report.tax_codes ?? []).map(([code = '', percent, title]) => ({
			value: code,
			label: `${code} ${title}, ${Number(percent)} %`
		}))
	);
	const toldStates = $derived(
		(data?.told_states ?? []).map((word) => ({ value: word, label: word.replaceAll('_', ' ') }))
	);
	const may = $derived(session.may('connect channels'));
	const can = (what: string): boolean => data?.can.includes(what) ?? false;

	async function act(name: string, work: () => Promise<unknown>, said = ''): Promise<void> {
		busy = name;
		try {
			const done = (await work()) as { said?: string };
			if (done.said ?? said) notices.say(done.said ?? said);
		} catch (error) {
			notices.fail(error);
		}
		busy = '';
		await changed();
	}

	const test = (): Promise<void> =>
		act('test', () => ask(api.POST('/api/v1/connections/{connection_id}/test', { params })));
	const live = (orders_from: string | null = null): Promise<void> =>
		act(
			'live',
			() =>
				ask(
					api.POST('/api/v1/connections/{connection_id}/live', { params, body: { orders_from } })
				),
			'It is live.'
		);
	/** A channel that was never live is led through its set-up. */
	const isNew = $derived(Boolean(data && !data.live_since && can('orders')));
	async function remove(): Promise<void> {
		busy = 'remove';
		try {
			await ask(api.DELETE('/api/v1/connections/{connection_id}', { params }));
			notices.say('The draft was deleted.');
			await goto('/connections');
		} catch (error) {
			notices.fail(error);
		}
		busy = '';
	}
	const pause = (): Promise<void> =>
		act(
			'pause',
			() => ask(api.POST('/api/v1/connections/{connection_id}/pause', { params })),
			'Paused.'
		);
	const take = (create: boolean): Promise<void> =>
		act('listings', () =>
			ask(api.POST('/api/v1/connections/{connection_id}/listings', { params, body: { create } }))
		);
	const give = (list: number): Promise<void> =>
		act(
			'list',
			() =>
				ask(
					api.PATCH('/api/v1/connections/{connection_id}', {
						params,
						body: { version: data?.version ?? 0, price_list: list }
					})
				),
			'Saved. Prices are being worked out anew.'
		);
	const now = (part = '', since: string | null = null): Promise<void> =>
		act('exchange', () =>
			ask(
				api.POST('/api/v1/connections/{connection_id}/exchange', {
					params,
					body: { part, since }
				})
			)
		);
	const reading = $derived(
		data?.runs.find((run) => run.kind === 'listings' && run.state === 'running')
	);
	const stop = (run: number): Promise<void> =>
		act('stop', () =>
			ask(api.POST('/api/v1/runs/{run_id}/stop', { params: { path: { run_id: run } } }))
		);
</script>

<Sheet question={data?.name ?? 'Connection'} tabs={CONNECTION_TABS}>
	{#snippet lead()}{#if data}{data.label} at {data.address}{/if}{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} />
			{#if may && !isNew}
				{#if data.state !== 'disconnected'}<button
						class="quiet"
						disabled={busy !== ''}
						onclick={test}>{busy === 'test' ? 'Testing…' : 'Test'}</button
					>{/if}
				{#if ['live', 'paused'].includes(data.state)}<button
						class="quiet"
						disabled={busy !== ''}
						onclick={() => (isEnding = true)}>Disconnect</button
					>{/if}
				{#if data.state === 'live'}<button class="quiet" disabled={busy !== ''} onclick={pause}
						>Pause</button
					>
				{:else if data.state !== 'disconnected'}<button
						class="do"
						disabled={busy !== '' || data.state === 'draft'}
						title={data.state === 'draft' ? 'Test it first' : ''}
						onclick={() => live()}>Go live</button
					>{/if}
			{/if}
			{#if can('listings') && !isNew && !['draft', 'disconnected'].includes(data.state) && session.may('pair listings')}
				<button class="quiet" disabled={busy !== ''} onclick={() => take(false)}
					>{busy === 'listings' ? 'Reading…' : 'Import listings, match only'}</button
				>
				{#if session.may('change the range')}<button
						class="quiet"
						disabled={busy !== ''}
						onclick={() => take(true)}>Import and create items</button
					>{/if}
			{/if}
			{#if can('publishing') && data.state === 'live'}<a
					class="quiet"
					href="/connections/{id}/publish">New listings</a
				>{/if}
			{#if may && data.removable}<button class="quiet" disabled={busy !== ''} onclick={remove}
					>Delete this draft</button
				>{/if}
			{#if data.state === 'live' && !can('documents') && session.may('resolve snags and drifts')}<button
					class="quiet"
					disabled={busy !== ''}
					onclick={() => now()}>Run now</button
				>{/if}
		{/if}
	{/snippet}
	{#if data}
		<div class="page">
			{#if isNew}<SetUp {data} {may} {busy} ontest={test} onlive={live} />{/if}
			{#if !isNew}<section class="panel" aria-label="Test">
					{#if data.state === 'disconnected'}
						<p>
							Disconnected: nothing is exchanged with it, and what was exchanged stays. To connect
							it again, enter below how to sign in, then test it and go live.
						</p>
					{:else if !data.tested_at}
						<p>Not tested yet. <b>Test</b> contacts the account and shows what it allows.</p>
					{:else if data.test_report.ok}
						<p>
							<Mark state="tested" note={ago(data.tested_at)} /> Connected to
							<b>{data.test_report.name}</b>. The account allows: {data.test_report.scopes?.join(
								', '
							)}.
						</p>
					{:else}
						<p class="bad" role="alert">
							The test failed {ago(data.tested_at)}: {data.test_report.fault}
						</p>
						{#if data.test_report.scopes?.length}<p class="soft">
								The account allows: {data.test_report.scopes.join(', ')}.
							</p>{/if}
					{/if}
					{#if data.pause_until && new Date(data.pause_until).getTime() > Date.now()}<p
							class="bad"
							role="status"
						>
							The account is not answering as it should. Next attempt at {moment(data.pause_until)};
							see
							<a href="/connections/snags">the snags</a>. Nothing is lost: what is waiting goes out
							then.
						</p>{/if}
					{#if can('orders')}<p class="soft mt-1">
							Orders of the last 24 hours: {#each data.heard as way, at (way.via)}{at
									? ', '
									: ''}{way.count} by {way.via}, the last {ago(way.last_at)}{:else}none yet{/each}.
							{#if data.webhooks}{data.state !== 'live'
									? 'Webhooks are registered when it goes live'
									: data.hook_proved_at
										? `Webhooks are registered; a test message came through ${ago(data.hook_proved_at)}`
										: 'Webhooks are registered; the test message has not come through yet'}; it is
								also asked by its schedule.{:else}It has no webhooks and is asked by its schedule.{/if}
						</p>{/if}
					{#if can('listings')}<p class="soft mt-1">
							{data.counts['linked'] ?? 0} listings linked,
							<a href="/range/pairing">{data.counts['unlinked'] ?? 0} not paired</a>,
							{data.counts['ignored'] ?? 0} ignored · offers: {data.counts['offer agreed'] ?? 0} agreed,
							{data.counts['offer pending'] ?? 0} pending, {data.counts['offer drifting'] ?? 0} drifting,
							{data.counts['offer held'] ?? 0} held
						</p>{/if}
				</section>{/if}
			{#if reading}<p class="panel reading" role="status">
					Reading listings: {reading.done} so far.
					{#if session.may('resolve snags and drifts')}<button
							class="quiet small"
							disabled={busy !== ''}
							onclick={() => stop(reading.id)}>Stop</button
						>{/if}
				</p>{/if}
			{#if !isNew}<ConnectionHealth
					{data}
					isBusy={busy !== ''}
					onrun={data.state === 'live' && session.may('resolve snags and drifts') ? now : undefined}
				/>{/if}
			<ConnectionSettings {data} mayChange={may} />
			{#if can('orders')}<section id="orders">
					<h2>Orders and fees</h2>
					<Rules
						way="connection"
						{id}
						group="Orders"
						can={data.can}
						words={data.words}
						offered={{ states_told: toldStates }}
					/>
				</section>{/if}
			{#if can('listings')}<section id="listings">
					<h2>
						Listings {#if data.counts['say otherwise']}<a
								class="more"
								href="/range/differences?connection={id}"
								>{count(data.counts['say otherwise'], 'says', 'say')} otherwise than we do</a
							>{/if}
					</h2>
					<Rules way="connection" {id} group="Listings" can={data.can} words={data.words} />
				</section>{/if}
			{#if can('tax_codes')}<section id="ledger">
					<h2>Tax codes and items</h2>
					<Rules
						way="connection"
						{id}
						group="Ledger"
						can={data.can}
						words={data.words}
						offered={{ tax_codes: codes }}
					/>
				</section>{/if}
			{#if can('quantities')}<section id="quantities">
					<h2>Quantities shown</h2>
					<Rules way="connection" {id} group="Quantities shown" can={data.can} words={data.words} />
				</section>{/if}
			{#if can('terms')}
				{#each ['Selling past zero', 'What the shopper sees'] as group (group)}<section>
						<h2>{group}</h2>
						<Rules way="connection" {id} {group} />
					</section>{/each}
			{/if}
			{#if can('prices')}<section id="prices">
					<h2>Prices</h2>
					<p class="list">
						<label class="ask"
							>Price list
							<select
								class="field"
								disabled={!may || busy !== ''}
								value={`${data.price_list ?? 0}`}
								onchange={(event) => give(Number(event.currentTarget.value))}
							>
								<option value="0">none of its own: its place’s, else the base prices</option>
								{#each data.price_lists as one (one.id)}<option value={`${one.id}`}
										>{one.name}</option
									>{/each}
							</select></label
						>
						<span class="soft"
							>{data.counts['price agreed'] ?? 0} prices agreed, {data.counts['price pending'] ?? 0} pending,
							{data.counts['price drifting'] ?? 0} drifting, {data.counts['price held'] ?? 0} held ·
							<a href="/range/prices{data.price_list ? `/${data.price_list}` : ''}">Price lists</a
							></span
						>
					</p>
					<Rules way="connection" {id} group="Prices" />
					{#if can('group_prices')}<ChannelGroups connection={id} mayRead={may} />{/if}
				</section>{/if}
			{#if can('feeds')}<Batches rows={data.batches} />{/if}
			<section id="schedule">
				<h2>Schedule</h2>
				<Rules way="connection" {id} group="Schedule" can={data.can} />
			</section>
			<section>
				<h2>Latest runs <a class="more" href="/connections/runs?connection={id}">all runs</a></h2>
				<table class="rows" aria-label="Latest runs">
					<thead
						><tr
							><th>When</th><th>What</th><th>State</th><th class="num">New</th><th class="num"
								>Changed</th
							><th class="num">Failed</th><th>Said</th></tr
						></thead
					>
					<tbody>
						{#each data.runs as run (run.id)}
							<tr data-row
								><td class="place"
									><a class="plain-link" href="/connections/runs/{run.id}"
										>{moment(run.started_at)}</a
									></td
								><td class="place">{run.label}</td><td><Mark state={run.state} /></td><td
									class="num">{run.taken || '·'}</td
								><td class="num">{run.changed || '·'}</td><td class="num" class:bad={run.failed > 0}
									>{run.failed || '·'}</td
								><td class="soft long">{run.said}</td></tr
							>
						{:else}<tr><td colspan="7" class="soft">No exchange yet.</td></tr>{/each}
					</tbody>
				</table>
			</section>
		</div>
	{:else}<Pending query={connection} />{/if}
</Sheet>

{#if isEnding && data}<Disconnect {id} name={data.name} onclose={() => (isEnding = false)} />{/if}

<style>
	.page {
		display: grid;
		gap: 20px;
		padding: 16px 0;
	}
	.panel {
		margin: 0 20px;
	}
	h2 {
		padding: 0 20px 4px;
	}
	.list {
		display: flex;
		gap: 18px;
		align-items: end;
		flex-wrap: wrap;
		padding: 0 20px 10px;
	}
	.more {
		font: 400 14px/20px var(--font-body, inherit);
		margin-left: 10px;
	}
	.reading {
		padding: 8px 12px;
		background: var(--reed-tint);
	}
	.bad {
		color: var(--madder);
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { ago, count, day, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Mark from './Mark.svelte';
	import SetUpStep from './SetUpStep.svelte';
	import Survey from './Survey.svelte';

	/** The way of a new connection until it is live, one step after the other; it can be left and taken up at any. */
	type Props = {
		data: Schemas['ConnectionOut'];
		may: boolean;
		busy: string;
		ontest: () => void;
		onlive: (from: string | null) => void;
	};
	let { data, may, busy, ontest, onlive }: Props = $props();
	const params = $derived({ path: { connection_id: data.id } });
	const isTested = $derived(data.state !== 'draft');
	const aYearAgo = new Date(Date.now() - 365 * 86_400_000).toISOString().slice(0, 10);
	let since = $state('');
	const from = $derived(since || data.survey?.since || aYearAgo);
	let listings = $state<'' | 'match' | 'create'>('match');
	let isPast = $state(true);
	let isOpen = $state(true);
	let asked = $state('');
	const running = (kind: string): Schemas['RunRow'] | undefined =>
		data.runs.find((run) => run.kind === kind && run.state === 'running');
	const looking = $derived(running('survey'));
	const taking = $derived(running('intake'));
	const taken = $derived(data.runs.find((run) => run.kind === 'intake' && run.state !== 'running'));
	const linked = $derived(data.counts['linked'] ?? 0);
	const push = createQuery(() => ({
		queryKey: ['first push', data.id, data.version, linked],
		queryFn: () => ask(api.GET('/api/v1/connections/{connection_id}/first-push', { params })),
		enabled: isTested && linked > 0 && data.can.includes('quantities')
	}));
	const rules = $derived(
		(
			[
				['orders', 'orders and fees', 'orders'],
				['quantities', 'quantities shown', 'quantities'],
				['prices', 'prices', 'prices'],
				['schedule', 'schedule', 'orders']
			] as const
		).filter(([, , needs]) => data.can.includes(needs))
	);

	async function send(name: string, work: () => Promise<{ said: string }>): Promise<void> {
		asked = name;
		try {
			notices.say((await work()).said);
		} catch (error) {
			notices.fail(error);
		}
		asked = '';
		await changed();
	}
	const look = (): Promise<void> =>
		send('look', () =>
			ask(api.POST('/api/v1/connections/{connection_id}/survey', { params, body: { since: from } }))
		);
	const take = (): Promise<void> =>
		send('take', () =>
			ask(
				api.POST('/api/v1/connections/{connection_id}/intake', {
					params,
					body: { listings, since: isPast ? from : null }
				})
			)
		);
</script>

<ol class="steps" aria-label="Set-up">
	<SetUpStep n={1} title="The account" isDone>
		{data.label} at {data.address}. Name, address and sign-in can be changed below until it is live.
	</SetUpStep>
	<SetUpStep n={2} title="Test" isDone={isTested}>
		{#if !data.tested_at}<p>It contacts the account once and shows what it allows.</p>
		{:else if data.test_report.ok}<p>
				Connected to <b>{data.test_report.name}</b>, {ago(data.tested_at)}. The account allows: {data.test_report.scopes?.join(
					', '
				)}.
			</p>
		{:else}<p class="bad" role="alert">{data.test_report.fault}</p>{/if}
		{#snippet go()}{#if may}<button
					class={isTested ? 'quiet' : 'do'}
					disabled={busy !== ''}
					onclick={ontest}>{busy === 'test' ? 'Testing…' : 'Test'}</button
				>{/if}{/snippet}
	</SetUpStep>
	<SetUpStep n={3} title="What would come in" isDone={Boolean(data.survey)} isOpen={isTested}>
		{#if looking}<p role="status">
				Looking: {figure(`${looking.done}`, '0')} listings and orders read so far.
			</p>
		{:else if data.survey}<Survey survey={data.survey} />
		{:else}Nothing comes in yet: everything is read once and counted, with examples.{/if}
		{#snippet go()}{#if may && isTested}
				<label class="ask"
					>Orders from
					<input
						class="field"
						type="date"
						value={from}
						onchange={(event) => (since = event.currentTarget.value)}
					/></label
				>
				<button
					class={data.survey ? 'quiet' : 'do'}
					disabled={asked !== '' || Boolean(looking) || !from}
					onclick={look}>{data.survey ? 'Look again' : 'Look'}</button
				>
			{/if}{/snippet}
	</SetUpStep>
	<SetUpStep n={4} title="Take in" isDone={taken?.state === 'done'} isOpen={isTested}>
		<p>
			Past orders count as demand and as what customers bought; stock and books are not touched by
			them.
		</p>
		{#if data.can.includes('listings')}
			<div class="choices" role="radiogroup" aria-label="Listings">
				{#each [['match', 'match listings with items'], ['create', 'and create items of the rest'], ['', 'leave listings out']] as const as [value, label] (value)}
					<label
						><input
							type="radio"
							name="listings"
							{value}
							bind:group={listings}
							disabled={!isTested || !may}
						/>
						{label}</label
					>
				{/each}
			</div>
		{/if}
		{#if data.can.includes('orders')}<label
				><input type="checkbox" bind:checked={isPast} disabled={!isTested || !may} /> past orders
				from
				{day(from)} on, as history</label
			>{/if}
		{#if taking}<p role="status">
				Taking in: {figure(`${taking.done}`, '0')} so far, {figure(`${taking.taken}`, '0')} new.
			</p>
		{:else if taken}<p role="status">
				<Mark state={taken.state} />
				{ago(taken.ended_at ?? taken.started_at)}: {taken.said}
				<a href="/connections/runs/{taken.id}">the report</a>
			</p>{/if}
		{#snippet go()}{#if may && isTested}<button
					class={taken ? 'quiet' : 'do'}
					disabled={asked !== '' || Boolean(taking) || (!listings && !isPast)}
					onclick={take}>Take in now</button
				>{/if}{/snippet}
	</SetUpStep>
	<SetUpStep n={5} title="Rules" isOpen={isTested}>
		What the orders are called, who ships them, how much is shown and whether anything goes out at
		all: {#each rules as [id, label], at (id)}{at ? ', ' : ''}<a href="#{id}">{label}</a>{/each}.
		{#if data.counts['unlinked']}<a href="/range/pairing?connection={data.id}"
				>{count(data.counts['unlinked'], 'listing')} not paired yet</a
			>.{/if}
	</SetUpStep>
	{#if data.can.includes('quantities')}<SetUpStep n={6} title="Rehearsal" isOpen={linked > 0}>
			{#if !linked}Once listings are paired: what each shows now, and what it would be told.
			{:else if push.data}
				<p role="status">
					Of {count(push.data.listings, 'paired listing')}, {figure(`${push.data.rising}`, 'none')} would
					show more than now and {figure(`${push.data.falling}`, 'none')} fewer; {push.data.to_zero
						? `${push.data.to_zero} would fall to zero`
						: 'none would fall to zero'}{push.data.silent
						? `; for ${push.data.silent} nothing goes out`
						: ''}.
				</p>
				{#if push.data.rows.length}<table class="rows" aria-label="What would change there">
						<thead
							><tr><th>Listing</th><th class="num">Shows</th><th class="num">Would show</th></tr
							></thead
						>
						<tbody
							>{#each push.data.rows as row (row.listing_id)}<tr
									><td class="long">{row.title} <span class="soft small">{row.sku}</span></td><td
										class="num">{figure(row.now, '0')}</td
									><td class="num">{figure(row.then, '0')}</td></tr
								>{/each}</tbody
						>
					</table>{/if}
			{/if}
		</SetUpStep>{/if}
	<SetUpStep n={7} title="Go live" isOpen={isTested}>
		From then on orders come in and quantities go out.
		{data.webhooks ? 'Webhooks are registered and proved by a message there and back.' : ''}
		{#if data.can.includes('orders')}<label class="block"
				><input type="checkbox" bind:checked={isOpen} disabled={!isTested || !may} /> take in the
				orders that are open, from {day(from)} on</label
			>{/if}
		{#snippet go()}{#if may}<button
					class={isTested ? 'do' : 'quiet'}
					disabled={busy !== '' || !isTested}
					title={isTested ? '' : 'Test it first'}
					onclick={() => onlive(isOpen ? from : null)}>Go live</button
				>{/if}{/snippet}
	</SetUpStep>
</ol>
{#if !session.may('connect channels')}<p class="soft note">A manager sets connections up.</p>{/if}

<style>
	.steps {
		margin: 0 20px;
		padding: 0;
		list-style: none;
		display: grid;
	}
	.choices {
		display: flex;
		gap: 6px 18px;
		flex-wrap: wrap;
	}
	.bad {
		color: var(--madder);
	}
	.note {
		padding: 0 20px;
	}
</style>

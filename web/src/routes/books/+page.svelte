<script lang="ts">
	import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { drawer } from '#lib/drawer.svelte.ts';
	import { ago, count, figure, moment, shortName } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { ITEM_FIELDS, SheetState, type Column } from '#lib/sheet.svelte.ts';
	import { BOOKS_TABS } from '#lib/tabs.ts';
	import Balance from '#lib/ui/Balance.svelte';
	import Beam from '#lib/ui/Beam.svelte';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import More from '#lib/ui/More.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import SheetTools from '#lib/ui/SheetTools.svelte';

	let busy = $state(false);
	const agreement = createQuery(() => ({
		queryKey: ['agreement'],
		queryFn: () => ask(api.GET('/api/v1/agreement'))
	}));
	const data = $derived(agreement.data);
	const sheet = new SheetState(
		'agreement',
		'Agreement',
		(): readonly Column<Schemas['AgreeRow']>[] => [
			{ name: 'title', head: 'Item', fields: ITEM_FIELDS },
			...(data?.columns ?? []).map(({ id, name }) => ({ name: `shown_${id}`, head: name })),
			{ name: 'holds', head: 'Shelf holds' },
			{ name: 'value', head: `Value ${session.currency}` },
			{ name: 'booked', head: `Books ${session.currency}` },
			{ name: 'state', head: 'State' }
		],
		{ q: '', show: '' },
		page.url.searchParams
	);
	const items = createInfiniteQuery(() => ({
		queryKey: ['agreement items', sheet.query],
		queryFn: ({ pageParam }) =>
			ask(
				api.GET('/api/v1/agreement/items', {
					params: { query: { ...sheet.query, cursor: pageParam, limit: 150 } }
				})
			),
		initialPageParam: '',
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: (before) => before,
		enabled: sheet.isReady
	}));
	const rows = $derived(items.data?.pages.flatMap((p) => p.rows) ?? []);
	const cell = (row: Schemas['AgreeRow'], column: number): Schemas['CellOut'] | undefined =>
		row.cells.find((c) => c.connection_id === column);
	const lean = (row: Schemas['AgreeRow']): number =>
		row.cells.reduce(
			(sum, c) => sum + Number(c.offered ?? 0) - Number(c.shown ?? c.offered ?? 0),
			0
		);
	const worthLean = (row: Schemas['AgreeRow']): number =>
		Math.sign(Number(row.booked) - Number(row.worth));

	const checking = $derived(busy || Boolean(data?.checking));

	async function putRight(drift: number, how: 'push' | 'take'): Promise<void> {
		const params = { path: { drift_id: drift } };
		try {
			const done = await ask(
				how === 'push'
					? api.POST('/api/v1/drifts/{drift_id}/push', { params })
					: api.POST('/api/v1/drifts/{drift_id}/take', { params })
			);
			notices.say(done.said);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}

	async function check(): Promise<void> {
		busy = true;
		try {
			await ask(api.POST('/api/v1/agreement/check'));
			// The accounts answer in their own time; the sheet fills as they do.
			for (let found = await agreement.refetch(); found.data; found = await agreement.refetch()) {
				if (found.data.checking) {
					await new Promise((resolve) => setTimeout(resolve, 600));
					continue;
				}
				const standing = found.data.drifts.length;
				notices.say(standing ? `${count(standing, 'drift')} found.` : 'Everything agrees.');
				break;
			}
			await changed();
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
	}
</script>

<Sheet question="Do the three books agree?" tabs={BOOKS_TABS}>
	{#snippet lead()}
		{#if data}Checked <span title={moment(data.at)}>{ago(data.at)}</span>: {count(
				data.beams.reduce((n, b) => n + b.compared, 0),
				'comparison'
			)}.
			<b class:bad={data.drifts.length}>{count(data.drifts.length, 'drift')}</b>
			{data.drifts.length === 1 ? 'stands' : 'stand'}; {data.healed_today} healed today.{/if}
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={sheet.filters.q} />
		<select class="field" aria-label="Show" bind:value={sheet.filters.show}>
			<option value="">all items</option><option value="off">what does not agree</option>
		</select>
		{#if session.may('resolve snags and drifts')}<button
				class="quiet"
				disabled={checking}
				onclick={check}>{checking ? 'Checking…' : 'Check now'}</button
			>{/if}
		<SheetTools {sheet} hasColumns={false} />
	{/snippet}
	{#if data}
		<div class="beams">
			{#each data.beams as beam (beam.code)}
				<Balance {beam} />
			{/each}
		</div>
		{#if data.drifts.length}
			<table class="rows drifts">
				<thead
					><tr
						><th>Drift</th><th>Between</th><th class="num">Expected</th><th class="num">Found</th
						><th>Since</th><th>Last event</th><th><span class="sr-only">Put right</span></th></tr
					></thead
				>
				<tbody>
					{#each data.drifts as drift (drift.id)}
						<tr data-row>
							<td class="long"
								><Mark state="drifting" />
								<button class="plain" onclick={() => drawer.open('drift', `${drift.id}`)}
									>{drift.title}</button
								></td
							>
							{#if drift.fault}<Faulty said={drift.fault} span={6} />{:else}
								<td class="place">{drift.code} {drift.connection}</td>
								<td class="num">{figure(drift.expected, '0')}</td>
								<td class="num"
									><Fig value={drift.found} kind="drift" id={`${drift.id}`} tone="madder" /></td
								>
								<td class="place" title={moment(drift.since)}>{ago(drift.since)}</td>
								<td class="soft long">{drift.cause || '–'}</td>
								<td class="does"
									>{#if drift.listing_id && session.may('resolve snags and drifts')}
										<button class="quiet" onclick={() => putRight(drift.id, 'push')}
											>Push ours</button
										>
										{#if drift.can_take && session.may('change prices')}<button
												class="quiet"
												onclick={() => putRight(drift.id, 'take')}>Take theirs</button
											>{/if}
									{/if}</td
								>
							{/if}
						</tr>
					{/each}
				</tbody>
			</table>
		{/if}
		<table class="rows">
			<thead
				><tr
					><th>Item</th>{#each data.columns as column (column.id)}<th
							class="num head"
							title={column.name}>{shortName(column.name, session.me?.company ?? '')}</th
						>{/each}<th><span class="sr-only">Channels and shelf</span></th><th class="num"
						>Shelf holds</th
					><th class="num">worth {session.currency}</th><th
						><span class="sr-only">Shelf and books</span></th
					><th class="num">Books {session.currency}</th><th>State</th></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.item_id)}
					<tr data-row>
						<td class="long"
							><a class="plain-link" href="/range/items/{row.item_id}">{row.title}</a>
							<span class="soft small">{row.sku}</span></td
						>
						{#if row.fault}<Faulty said={row.fault} span={data.columns.length + 6} />{:else}
							{#each data.columns as column (column.id)}
								{@const c = cell(row, column.id)}
								<td class="num"
									>{#if c}<Fig
											value={c.shown}
											kind="offer"
											id={`${c.listing_id}`}
											tone={c.state === 'drifting'
												? 'madder'
												: c.state === 'pending'
													? 'ochre'
													: ''}
										/>{:else}<span class="soft">–</span>{/if}</td
								>
							{/each}
							<td class="beam-cell"
								>{#if row.cells.length}<Beam
										tilt={row.state === 'agreed' ? 0 : lean(row)}
										tone={row.cells.some((c) => c.state === 'drifting')
											? 'madder'
											: row.cells.some((c) => c.state === 'pending')
												? 'ochre'
												: 'reed'}
										label="channels and shelf"
									/>{/if}</td
							>
							<td class="num">{row.kind === 'bundle' ? 'kit' : figure(row.holds)}</td>
							<td class="num">{row.worth === null ? '' : figure(row.worth)}</td>
							<td class="beam-cell"
								>{#if row.worth !== null}<Beam
										tilt={worthLean(row)}
										label="shelf and books"
									/>{/if}</td
							>
							<td class="num"
								>{#if row.booked !== null}<Fig
										value={row.booked}
										kind="booked"
										id={`${row.item_id}`}
									/>{/if}</td
							>
							<td><Mark state={row.state} /></td>
						{/if}
					</tr>
				{/each}
			</tbody>
		</table>
		<More query={items} />
		{#if !rows.length && items.data}<p class="soft p-5">
				{sheet.filters.show === 'off'
					? 'Everything agrees.'
					: sheet.filters.q
						? 'No item is called that.'
						: 'No items yet.'}
			</p>{/if}
	{:else}<Pending query={agreement} />{/if}
	{#snippet totals()}
		{#if data}<span>{count(rows.length, 'item')}{items.hasNextPage ? ' so far' : ''}</span>
			<span class="ml-auto">Shelf <b class="double">{figure(data.worth)}</b></span><span
				>Books <b class="double">{figure(data.booked)}</b> {session.currency}</span
			>{/if}
	{/snippet}
</Sheet>

<style>
	.beams {
		display: grid;
		grid-template-columns: repeat(auto-fit, minmax(168px, 1fr));
		gap: 10px;
		padding: 14px 20px;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
	.drifts {
		margin-bottom: 10px;
	}
	.beam-cell {
		width: 46px;
	}
	.does {
		white-space: nowrap;
	}
	.head {
		max-width: 120px;
		overflow: hidden;
		text-overflow: ellipsis;
	}
	.plain {
		cursor: pointer;
		min-height: 24px;
		text-align: left;
	}
	.plain:hover {
		color: var(--reed);
	}
</style>

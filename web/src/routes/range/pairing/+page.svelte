<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { onKey } from '#lib/keys.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import Filter from '#lib/ui/Filter.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';

	type Row = Schemas['BenchRow'];
	let q = $state('');
	let link = $state('unlinked');
	let channel = $state(Number(page.url.searchParams.get('connection') ?? 0));
	const channels = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const isPairing = $derived(['unlinked', 'clashing'].includes(link));
	let at = $state(0);
	let picked = $state<Record<number, number>>({});
	let packs = $state<Record<number, string>>({});
	/** Of how many units one of the listing is: as typed, else as the titles suggest. */
	const units = (row: Row): string => packs[row.id] ?? `${row.candidates[choice(row)]?.units ?? 1}`;
	const bench = createQuery(() => ({
		queryKey: ['listings', link, q, channel],
		queryFn: () =>
			ask(
				api.GET('/api/v1/listings', {
					params: { query: { link, q, limit: 100, ...(channel ? { connection: channel } : {}) } }
				})
			),
		placeholderData: (before) => before
	}));
	const rows = $derived(bench.data?.rows ?? []);
	const current = $derived(rows[Math.min(at, rows.length - 1)]);
	const choice = (row: Row): number => picked[row.id] ?? 0;
	const mayPair = $derived(session.may('pair listings'));

	async function act(what: 'link' | 'ignore' | 'item' | 'unlink', row: Row): Promise<void> {
		const params = { path: { listing_id: row.id } };
		try {
			let done: Schemas['Said'];
			if (what === 'link') {
				const candidate = row.candidates[choice(row)];
				if (!candidate)
					return notices.say(
						'There is no candidate to link to; make a new item or ignore it.',
						true
					);
				done = await ask(
					api.POST('/api/v1/listings/{listing_id}/link', {
						params,
						body: {
							item_id: candidate.item_id,
							version: row.version,
							units: Number(units(row)) || 1
						}
					})
				);
			} else if (what === 'ignore')
				done = await ask(api.POST('/api/v1/listings/{listing_id}/ignore', { params }));
			else if (what === 'item')
				done = await ask(api.POST('/api/v1/listings/{listing_id}/item', { params }));
			else done = await ask(api.POST('/api/v1/listings/{listing_id}/unlink', { params }));
			notices.say(`${row.title}: ${done.said}`, false, () => takeBack(row));
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}

	/** The listing stands as it did before: linked as it was, ignored, or on the bench. */
	async function takeBack(row: Row): Promise<void> {
		const params = { path: { listing_id: row.id } };
		try {
			if (row.item)
				await ask(
					api.POST('/api/v1/listings/{listing_id}/link', {
						params,
						body: { item_id: row.item.id, units: row.units }
					})
				);
			else if (row.link === 'ignored')
				await ask(api.POST('/api/v1/listings/{listing_id}/ignore', { params }));
			else await ask(api.POST('/api/v1/listings/{listing_id}/unlink', { params }));
			notices.say(`${row.title} is as it was.`);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}

	function keys(event: KeyboardEvent): boolean {
		if (event.key === 'u') return notices.undoNewest();
		const row = current;
		if (!row || !isPairing) return false;
		if (event.key === 'ArrowDown') at = Math.min(rows.length - 1, at + 1);
		else if (event.key === 'ArrowUp') at = Math.max(0, at - 1);
		else if (/^[1-5]$/.test(event.key) && row.candidates[Number(event.key) - 1])
			picked = { ...picked, [row.id]: Number(event.key) - 1 };
		else if (event.key === 'l' && mayPair) void act('link', row);
		else if (event.key === 'i' && mayPair) void act('ignore', row);
		else if (event.key === 'm' && mayPair) void act('item', row);
		else return false;
		return true;
	}
	$effect(() => onKey(keys));
</script>

<Sheet
	question="Which item is each listing?"
	tabs={RANGE_TABS.map((t) =>
		t.path === '/range/pairing' ? { ...t, count: bench.data?.counts['unlinked'] ?? 0 } : t
	)}
>
	{#snippet lead()}
		A unique match of SKU or barcode is linked automatically. The rest are listed here: <span
			class="key">1</span
		>–<span class="key">5</span>
		pick, <span class="key">l</span> links, <span class="key">m</span> makes an item,
		<span class="key">i</span> ignores, <span class="key">u</span> undoes.
	{/snippet}
	{#snippet filters()}
		<Filter bind:value={q} />
		<select class="field" aria-label="Show" bind:value={link}>
			<option value="unlinked">not paired</option><option value="clashing">clashing</option><option
				value="linked">linked</option
			><option value="drifting">drifting</option><option value="held">held</option><option
				value="ignored">ignored</option
			>
		</select>
		<select class="field" aria-label="Channel" bind:value={channel}>
			<option value={0}>every channel</option>
			{#each (channels.data ?? []).filter((one) => one.listings) as one (one.id)}<option
					value={one.id}>{one.name}</option
				>{/each}
		</select>
		<a class="quiet" href="/range/sheets?kind=pairs" title="Send in pairs made elsewhere">Import</a>
	{/snippet}
	{#if rows.length}
		<table class="rows">
			<thead
				><tr
					><th>Listing</th><th>Channel SKU</th><th>Channel barcode</th><th class="num">Price</th><th
						>Suggested items</th
					><th></th></tr
				></thead
			>
			<tbody>
				{#each rows as row, n (row.id)}
					<tr
						data-bench
						class:now={n === at && isPairing}
						onclick={() => (at = n)}
						aria-current={n === at && isPairing ? 'true' : undefined}
					>
						<td class="what long"
							><b><a class="plain-link" href="/range/listings/{row.id}">{row.title}</a></b>
							<span class="soft small block"
								>{row.connection}{#each Object.entries(row.options) as [name, value] (name)}&ensp;{name}
									{value}{/each}</span
							>
							{#if row.why && (row.clash || !isPairing)}<span
									class="small block"
									class:clash={row.clash}>{row.why}</span
								>{/if}</td
						>
						{#if row.fault}<Faulty said={row.fault} span={5} />{:else}
							<td class="soft clip sku">{row.sku || 'none'}</td>
							<td class="soft small">{row.barcode || 'none'}</td>
							<td class="num">{figure(row.price)}</td>
							<td>
								{#if isPairing}
									{#each row.candidates as candidate, k (candidate.item_id)}
										<label class="candidate" class:chosen={choice(row) === k}>
											<input
												type="radio"
												name="c{row.id}"
												checked={choice(row) === k}
												onchange={() => (picked = { ...picked, [row.id]: k })}
											/>
											<span class="key">{k + 1}</span>
											<Thumb picture={candidate.picture ?? null} />
											<span class="long"
												>{candidate.title}
												<span class="soft small"
													>{candidate.sku}{candidate.price
														? ` · ${figure(candidate.price)}`
														: ''}</span
												>{#if candidate.doubts?.length}<span class="small block doubt"
														>{candidate.doubts.join('; ')}</span
													>{/if}</span
											>
											<span class="small reason"
												>{candidate.reason}, {Math.round(candidate.score)}</span
											>
										</label>
									{:else}<span class="soft">no similar item</span>{/each}
								{:else}{#if row.item}<a class="plain-link" href="/range/items/{row.item.id}"
											>{row.item.title}</a
										>
										<span class="soft small">{row.item.sku}</span>{/if}
									<span class="soft small block">{row.why}</span>{/if}
							</td>
							<td class="does">
								{#if mayPair}
									{#if isPairing}
										<button
											class="quiet"
											disabled={!row.candidates.length}
											onclick={() => act('link', row)}>Link</button
										>
										{#if row.candidates.length}<label class="soft small"
												>as <input
													class="field units"
													inputmode="numeric"
													aria-label="Units that {row.title} stands for"
													value={units(row)}
													oninput={(event) =>
														(packs = { ...packs, [row.id]: event.currentTarget.value.trim() })}
												/>
												{units(row) === '1' ? 'unit' : 'units'}</label
											>{/if}
										<button class="quiet" onclick={() => act('item', row)}>New item</button>
										<button class="quiet" onclick={() => act('ignore', row)}>Ignore</button>
									{:else}<button class="quiet" onclick={() => act('unlink', row)}
											>Back to the bench</button
										>{/if}
								{/if}
							</td>
						{/if}
					</tr>
				{/each}
			</tbody>
		</table>
	{:else}
		<Pending
			query={bench}
			isEmpty
			empty={link === 'unlinked' ? 'Every listing is paired.' : 'None.'}
			first={link === 'unlinked' ? { text: 'See the range', path: '/range' } : undefined}
		/>
	{/if}
	{#snippet totals()}<span>{count(rows.length, 'listing')}</span>{/snippet}
</Sheet>

<style>
	.units {
		width: 46px;
		height: 24px;
		text-align: right;
	}
	td {
		vertical-align: top !important;
		padding-top: 8px !important;
		padding-bottom: 8px !important;
	}
	.now {
		background: var(--reed-tint);
		box-shadow: inset 3px 0 0 var(--reed);
	}
	.what {
		max-width: 250px;
	}
	.sku {
		max-width: 130px !important;
	}
	.clash {
		color: var(--madder);
		font-weight: 600;
	}
	.candidate {
		display: flex;
		gap: 6px;
		align-items: center;
		min-height: 24px;
		cursor: pointer;
	}
	.doubt {
		color: var(--madder);
		font-weight: 400;
	}
	.chosen {
		font-weight: 600;
	}
	.reason {
		color: var(--reed);
		margin-left: auto;
		padding-left: 10px;
		font-weight: 400;
		white-space: nowrap;
	}
	.does {
		white-space: nowrap;
		text-align: right;
	}
	.does .quiet {
		padding: 3px 8px;
	}
</style>

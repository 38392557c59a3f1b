<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import { ago, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Beam from '#lib/ui/Beam.svelte';
	import Differences from '#lib/ui/Differences.svelte';
	import Fig from '#lib/ui/Fig.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Rules from '#lib/ui/Rules.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';

	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { listing_id: id } });
	const listing = createQuery(() => ({
		queryKey: ['listing', id],
		queryFn: () => ask(api.GET('/api/v1/listings/{listing_id}', { params }))
	}));
	const data = $derived(listing.data);
	let busy = $state(false);
	const may = $derived(session.may('pair listings'));
	const can = (what: string): boolean => data?.can.includes(what) ?? false;
	const SAID: Record<string, string> = { live: 'for sale', hidden: 'hidden', ended: 'ended' };
	const tone = (state: string): 'madder' | 'ochre' | 'reed' =>
		state === 'drifting' || state === 'held' ? 'madder' : state === 'pending' ? 'ochre' : 'reed';
	const groups = $derived(
		[
			['Held by hand', ''],
			['Shown or hidden', 'states'],
			['Quantities shown', ''],
			['Selling past zero', 'terms'],
			['What the shopper sees', 'terms'],
			['Content', 'texts']
		].filter(([, needs]) => !needs || can(needs))
	);
	/** What stands among the differences is not said twice. */
	const agreeing = $derived(
		(data?.facts ?? []).filter(
			(one) => !data?.differences.some((other) => other.label === one.label)
		)
	);
	let group = $state('Held by hand');

	async function act(work: () => Promise<{ said: string }>): Promise<void> {
		busy = true;
		try {
			notices.say((await work()).said);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
	let units = $state<string | null>(null);
	async function pack(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		if (!data?.item || units === null) return;
		const body = { item_id: data.item.id, version: data.version, units: Number(units) };
		await act(() => ask(api.POST('/api/v1/listings/{listing_id}/link', { params, body })));
		units = null;
	}
	const stand = (state: 'live' | 'hidden' | 'ended'): Promise<void> =>
		act(() => ask(api.POST('/api/v1/listings/{listing_id}/stand', { params, body: { state } })));
	const refresh = (): Promise<void> =>
		act(() => ask(api.POST('/api/v1/listings/{listing_id}/refresh', { params })));
	const again = (): Promise<void> =>
		act(() => ask(api.POST('/api/v1/listings/{listing_id}/again', { params })));
</script>

<Sheet question={data?.title ?? 'Listing'} tabs={RANGE_TABS}>
	{#snippet lead()}{#if data}
			<a href="/connections/{data.connection_id}">{data.connection}</a> · {data.external_id}{data.sku
				? ` · SKU there ${data.sku}`
				: ''}{data.barcode ? ` · ${data.barcode}` : ''}{data.category
				? ` · in ${data.category}`
				: ''}{Object.entries(data.options)
				.map(([name, value]) => ` · ${name} ${value}`)
				.join('')}
		{/if}{/snippet}
	{#snippet filters()}{#if data}
			<Mark
				state={data.offered === null ? 'open' : data.stands}
				word={data.offered === null ? 'nothing of ours goes out' : SAID[data.stands]}
				note={data.rests ? 'waits to be resumed' : ''}
			/>
			{#if may && data.item && can('states')}
				{#if data.stands === 'live'}
					<button class="quiet" disabled={busy} onclick={() => stand('hidden')}>Hide</button>
					<button class="quiet" disabled={busy} onclick={() => stand('ended')}>End</button>
				{:else}
					<button class="do" disabled={busy} onclick={() => stand('live')}
						>{data.stands === 'ended' ? 'Relist' : 'Show again'}</button
					>
					{#if data.stands === 'hidden'}<button
							class="quiet"
							disabled={busy}
							onclick={() => stand('ended')}>End</button
						>{/if}
				{/if}
			{/if}
			{#if may && data.offered !== null}<button class="quiet" disabled={busy} onclick={again}
					>Send again</button
				>{/if}
			{#if may && data.item && data.live && can('texts')}<button
					class="quiet"
					disabled={busy}
					onclick={refresh}>Refresh texts</button
				>{/if}
		{/if}{/snippet}
	{#if data}
		<div class="page">
			<div class="most">
				<section>
					<h2>There and here</h2>
					<table class="rows fit" aria-label="There and here">
						<thead
							><tr
								><th></th><th class="num">Should show</th><th
									><span class="sr-only">Agreement</span></th
								><th class="num">Shows</th><th>State</th></tr
							></thead
						>
						<tbody>
							<tr data-row>
								<th scope="row">Quantity</th>
								<td class="num"
									>{#if data.offered === null}<span class="soft">–</span>{:else}<Fig
											value={data.offered}
											kind="offer"
											id={`${data.id}`}
										/>{/if}</td
								>
								<td
									>{#if data.offered !== null}<Beam
											tilt={Number(data.offered) - Number(data.shown ?? data.offered)}
											tone={tone(data.offer_state)}
											label="quantity {data.offer_state}"
										/>{/if}</td
								>
								<td class="num">{figure(data.shown)}</td>
								<td
									>{#if data.offer_state}<Mark
											state={data.offer_state}
											note={data.agreed_at && data.offer_state === 'agreed'
												? ago(data.agreed_at)
												: data.offer_cause}
										/>{/if}</td
								>
							</tr>
							<tr data-row>
								<th scope="row"
									>Price {#if data.price_currency && data.price_currency !== session.currency}<span
											class="soft small">{data.price_currency}</span
										>{/if}</th
								>
								<td class="num"
									>{#if data.price_offered === null}<span class="soft">–</span>{:else}<Fig
											value={data.price_offered}
											kind="price-offer"
											id={`${data.id}`}
										/>{/if}{#if data.price_before}
										<s class="soft before">{figure(data.price_before)}</s>{/if}</td
								>
								<td
									>{#if data.price_offered !== null}<Beam
											tilt={Number(data.price_offered) - Number(data.price ?? data.price_offered)}
											tone={tone(data.price_state)}
											label="price {data.price_state}"
										/>{/if}</td
								>
								<td class="num">{figure(data.price)}</td>
								<td
									>{#if data.price_state}<Mark state={data.price_state} />{:else}<span class="soft"
											>kept apart</span
										>{/if}</td
								>
							</tr>
							{#each data.group_prices as group (group.group_id)}
								<tr data-row>
									<th scope="row">Price for {group.title}</th>
									<td class="num"
										>{#if group.price === null}<span class="soft">as everybody</span>{:else}<Fig
												value={group.price}
												kind="group-price"
												id={`${data.id}-${group.group_id}`}
											/>{/if}</td
									>
									<td
										>{#if group.price !== null}<Beam
												tilt={Number(group.price) - Number(group.shown ?? group.price)}
												tone={tone(group.state)}
												label="price for {group.title} {group.state}"
											/>{/if}</td
									>
									<td class="num">{figure(group.shown)}</td>
									<td><Mark state={group.state} /></td>
								</tr>
							{/each}
							{#if can('states')}<tr data-row>
									<th scope="row">Stands as</th>
									<td class="num">{data.offered === null ? '–' : SAID[data.stands]}</td>
									<td
										>{#if data.offered !== null && data.stands_there}<Beam
												tilt={data.stands === data.stands_there ? 0 : 1}
												tone={data.stands === data.stands_there ? 'reed' : tone(data.offer_state)}
												label="state"
											/>{/if}</td
									>
									<td class="num">{SAID[data.stands_there] ?? '–'}</td>
									<td class="soft">{data.told.join('; ')}</td>
								</tr>{/if}
						</tbody>
					</table>
				</section>
				{#if data.differences.length}
					<section>
						<h2>Says otherwise</h2>
						<Differences
							listing={data.id}
							version={data.version}
							rows={data.differences}
							may={session.may('change the range')}
							label="Says otherwise"
						/>
					</section>
				{/if}
				{#if data.item}
					<section>
						<h2>Rules</h2>
						<p class="groups" role="group" aria-label="Rules of">
							{#each groups as [name] (name)}<button
									class="quiet small"
									aria-pressed={group === name}
									onclick={() => (group = name ?? '')}>{name}</button
								>{/each}
						</p>
						{#key group}<Rules way="listing" {id} {group} can={data.can} />{/key}
					</section>
				{/if}
			</div>
			<div class="side">
				<section>
					<h2>The item</h2>
					{#if data.item}
						<p class="item">
							<Thumb picture={data.picture} />
							<span
								><a href="/range/items/{data.item.id}">{data.item.title}</a>
								<span class="soft small block">{data.item.sku}</span></span
							>
						</p>
						{#if may && !data.kept_there}<form class="stands" onsubmit={pack} aria-label="Units">
								<label class="soft"
									>Stands for <input
										class="field units"
										inputmode="numeric"
										aria-label="Units it stands for"
										value={units ?? `${data.units}`}
										oninput={(event) => (units = event.currentTarget.value.trim())}
									/>
									{(units ?? `${data.units}`) === '1' ? 'unit' : 'units'} of it</label
								>
								{#if units !== null && units !== `${data.units}`}<button class="quiet small"
										>Save</button
									>{/if}
							</form>{:else}<p class="soft">
								Stands for {data.units}
								{data.units === 1 ? 'unit' : 'units'} of it.
							</p>{/if}
						<p class="soft">
							Paired: <Fig value={data.link_reason || 'why'} kind="pairing" id={`${data.id}`} />
						</p>
					{:else}<p class="soft">
							{data.link === 'ignored' ? 'Ignored: nothing of ours goes out.' : 'Not paired yet:'}
							<a href="/range/pairing?connection={data.connection_id}">the pairing bench</a>
						</p>{/if}
					{#if data.kept_there}<p class="soft">
							{data.connection} sends it from a store of its own and counts it itself.
						</p>{/if}
					{#if data.is_draft}<p class="soft">A draft there: shoppers do not see it yet.</p>{/if}
					{#if data.entry}<p class="soft">Attached to its catalogue entry {data.entry}.</p>{/if}
				</section>
				{#if agreeing.length || data.left_there.length || data.unreadable.length}<section>
						<h2>What it says</h2>
						<dl aria-label="What it says">
							{#each agreeing as one (one.label)}<dt>{one.label}</dt>
								<dd>{one.said}</dd>{/each}
							{#each data.left_there as one (one.label)}<dt class="soft">{one.label}</dt>
								<dd class="soft">{one.said} <span class="small">left there</span></dd>{/each}
						</dl>
						{#each data.unreadable as one (one)}<p class="bad small">{one}</p>{/each}
						{#if data.left_there.length}<p class="soft small">
								What attributes are here is a rule of
								<a href="/connections/{data.connection_id}#listings">{data.connection}</a>.
							</p>{/if}
					</section>{/if}
				<section>
					<h2>What became of it</h2>
					<ol class="line" aria-label="History">
						{#each data.history as one, n (n)}
							<li>
								<span class="soft small"
									>{moment(one.at)}{one.by
										? ` · ${one.by === 'Yuvrel' ? 'by itself' : one.by}`
										: ''}</span
								>
								<span class="block"
									>{#if one.link}<a href={one.link}>{one.what}</a>{:else}{one.what}{/if}</span
								>
								{#if one.why}<span class="soft small block">{one.why}</span>{/if}
							</li>
						{:else}<li class="soft">Nothing yet but being read.</li>{/each}
					</ol>
				</section>
			</div>
		</div>
	{:else}<Pending query={listing} />{/if}
</Sheet>

<style>
	.page {
		display: grid;
		grid-template-columns: minmax(0, 2.6fr) minmax(250px, 1fr);
		gap: 28px;
		padding: 12px 20px 20px;
		overflow-wrap: anywhere;
	}
	.most,
	.side {
		display: grid;
		gap: 22px;
		align-content: start;
		min-width: 0;
	}
	.most :global(.rows th:first-child),
	.most :global(.rows td:first-child) {
		padding-left: 0;
	}
	.fit {
		width: auto;
		min-width: 560px;
	}
	th[scope='row'] {
		text-align: left;
		border-bottom: 1px solid var(--rule);
	}
	.most :global(form > .level),
	.most :global(form > .save),
	.most :global(.history) {
		margin-left: 0;
		padding-left: 0;
	}
	.groups {
		display: flex;
		gap: 6px;
		flex-wrap: wrap;
		margin-bottom: 8px;
	}
	.groups [aria-pressed='true'] {
		background: var(--reed-tint);
	}
	.before {
		margin-left: 8px;
	}
	dl {
		display: grid;
		grid-template-columns: max-content minmax(0, 1fr);
		gap: 3px 14px;
		white-space: pre-line;
	}
	dt {
		color: var(--ink-soft);
		max-width: 120px;
	}
	.bad {
		color: var(--madder);
	}
	.item {
		display: flex;
		gap: 10px;
		align-items: center;
	}
	.stands {
		display: flex;
		gap: 8px;
		align-items: center;
		margin: 4px 0;
	}
	.units {
		width: 56px;
		text-align: right;
	}
	.line {
		list-style: none;
		padding: 0;
		display: grid;
		gap: 10px;
		border-left: 1px solid var(--rule-strong);
	}
	.line li {
		padding-left: 12px;
		overflow-wrap: anywhere;
	}
	@media (max-width: 900px) {
		.page {
			grid-template-columns: minmax(0, 1fr);
		}
		.fit {
			min-width: 0;
			width: 100%;
		}
	}
</style>

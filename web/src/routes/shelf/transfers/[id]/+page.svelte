<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { day, figure, moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import { Typing } from '#lib/typing.svelte.ts';
	import Faulty from '#lib/ui/Faulty.svelte';
	import ItemName from '#lib/ui/ItemName.svelte';
	import ItemSeek from '#lib/ui/ItemSeek.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Overtaken from '#lib/ui/Overtaken.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Posted from '#lib/ui/Posted.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';
	import TimeLine from '#lib/ui/TimeLine.svelte';

	const client = useQueryClient();
	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { transfer_id: id } });
	const transfer = createQuery(() => ({
		queryKey: ['transfer', id],
		queryFn: () => ask(api.GET('/api/v1/transfers/{transfer_id}', { params }))
	}));
	const data = $derived(transfer.data);
	const isDraft = $derived(data?.state === 'draft');
	const isHeld = $derived(isDraft && !!data?.lines.some((line) => Number(line.reserved) > 0));
	const isShort = $derived(
		!!data?.lines.some((line) => Number(line.reserved) < Number(line.quantity))
	);
	const isOpen = $derived(['sent', 'part-received'].includes(data?.state ?? ''));
	const mayMove = $derived(session.may('move stock between places'));
	const mayReceive = $derived(session.may('receive goods'));
	let typed = $state<Record<number, string>>({});
	let sought = $state('');
	let reason = $state('lost');
	let refusal = $state('');
	let busy = $state(false);
	let key = onceKey();
	const typing = new Typing(() => data?.version);
	const isEdited = $derived(Object.keys(typed).length > 0);
	const isOvertaken = $derived(isDraft && isEdited && typing.isOvertaken);
	const number = (text: string): string => text.trim().replace(',', '.') || '0';
	const settled = (line: Schemas['TransferLineOut']): string =>
		[
			[line.returned, 'brought back'],
			[line.lost, 'written off']
		]
			.filter(([units]) => Number(units) > 0)
			.map(([units, what]) => `${figure(units ?? '0')} ${what}`)
			.join(', ');

	function type(line: number, units: string): void {
		typing.begin();
		typed = { ...typed, [line]: units };
	}

	function drop(): void {
		typed = {};
		typing.end();
	}

	async function act(said: string, work: () => Promise<Schemas['TransferOut']>): Promise<void> {
		busy = true;
		refusal = '';
		try {
			const after = await work();
			client.setQueryData(['transfer', id], after);
			notices.say(after.said || said);
			drop();
			key = onceKey();
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
		await changed();
	}

	const version = $derived(data?.version ?? 0);
	const lines = (): { line_id: number; quantity: string }[] =>
		Object.entries(typed).map(([line, units]) => ({
			line_id: Number(line),
			quantity: number(units)
		}));
	const save = (): Promise<void> =>
		act('Saved.', () =>
			ask(
				api.PATCH('/api/v1/transfers/{transfer_id}', {
					params,
					body: { version: typing.version, lines: lines() }
				})
			)
		);
	const add = (row: Schemas['ItemRow']): Promise<void> => {
		sought = '';
		return act('The item is added.', () =>
			ask(
				api.POST('/api/v1/transfers/{transfer_id}/lines', {
					params,
					body: { version, item_id: row.id, quantity: '1' }
				})
			)
		);
	};
	const send = (): Promise<void> =>
		act('Sent.', () =>
			ask(api.POST('/api/v1/transfers/{transfer_id}/send', { params, body: { version } }))
		);
	const reserve = (): Promise<void> =>
		act('Reserved.', () =>
			ask(api.POST('/api/v1/transfers/{transfer_id}/reserve', { params, body: { version } }))
		);
	const release = (): Promise<void> =>
		act('Released.', () =>
			ask(api.POST('/api/v1/transfers/{transfer_id}/release', { params, body: { version } }))
		);
	const cancel = (): Promise<void> =>
		act(isDraft ? 'Cancelled.' : 'Brought back.', () =>
			ask(api.POST('/api/v1/transfers/{transfer_id}/cancel', { params, body: { version } }))
		);
	const receive = (): Promise<void> =>
		act('Received.', () =>
			ask(
				api.POST('/api/v1/transfers/{transfer_id}/receive', {
					params,
					headers: { 'Idempotency-Key': key },
					body: { lines: lines() }
				})
			)
		);
	const giveUp = (): Promise<void> =>
		act('Written off.', () =>
			ask(
				api.POST('/api/v1/transfers/{transfer_id}/give-up', {
					params,
					headers: { 'Idempotency-Key': key },
					body: { version, reason, lines: lines() }
				})
			)
		);

	function all(): void {
		for (const line of data?.lines ?? [])
			if (Number(line.left) > 0) type(line.id, `${Number(line.left)}`);
	}
</script>

<Sheet question={data ? `${data.number} to ${data.destination}` : 'Transfer'} tabs={SHELF_TABS}>
	{#snippet lead()}
		{#if data}from {data.source} ·
			{data.sent_at ? `sent ${moment(data.sent_at)}` : 'not sent yet'} · expected {day(
				data.expected_on
			)}
			{#if data.note}· “{data.note}”{/if}{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} ofGoods />
			{#if data.late}<Mark state="late" />{/if}
			<a
				class="quiet"
				href="/api/v1/documents/transfer/{data.id}/forms/note"
				target="_blank"
				rel="noreferrer">Delivery note PDF</a
			>
			{#if mayMove && isDraft}<button class="quiet" disabled={busy} onclick={cancel}
					>Cancel the transfer</button
				>{/if}
			{#if mayMove && data.state === 'sent'}<button class="quiet" disabled={busy} onclick={cancel}
					>Bring everything back</button
				>{/if}
		{/if}
	{/snippet}
	{#if data}
		{#if isOvertaken}<Overtaken onkeep={() => typing.keep()} ontake={drop} />{/if}
		<Thing>
			<table class="rows">
				<thead
					><tr
						><th>Item</th>{#if isDraft}<th class="num">Free at {data.source}</th><th class="num"
								>Reserved</th
							>{/if}<th class="num">Units</th>{#if !isDraft}<th class="num">Arrived</th><th
								class="num">On the way</th
							>{/if}{#if isOpen && (mayReceive || session.may('adjust stock'))}<th class="num"
								>Now</th
							>{/if}{#if !isDraft}<th></th>{/if}</tr
					></thead
				>
				<tbody>
					{#each data.lines as line (line.id)}
						<tr data-row>
							<td
								><ItemName
									id={line.item_id}
									title={line.title}
									sku={line.sku}
									picture={line.picture ?? null}
								/></td
							>
							{#if line.fault}<Faulty said={line.fault} span={5} />{:else if isDraft}
								<td class="num" class:short={Number(line.free) < Number(line.quantity)}
									>{figure(line.free)}</td
								>
								<td class="num">{Number(line.reserved) ? figure(line.reserved) : '–'}</td>
								<td class="num"
									>{#if mayMove}<input
											class="field qty"
											inputmode="decimal"
											aria-label="Units of {line.title}"
											value={typed[line.id] ?? line.quantity}
											oninput={(e) => type(line.id, e.currentTarget.value)}
										/>{:else}{figure(line.quantity)}{/if}</td
								>
							{:else}
								<td class="num">{figure(line.quantity)}</td>
								<td class="num">{figure(line.received)}</td>
								<td class="num">{figure(line.left)}</td>
								{#if isOpen && (mayReceive || session.may('adjust stock'))}<td class="num"
										>{#if Number(line.left) > 0}<input
												class="field qty"
												inputmode="decimal"
												aria-label="Now of {line.title}"
												value={typed[line.id] ?? ''}
												oninput={(e) => type(line.id, e.currentTarget.value)}
											/>{/if}</td
									>{/if}
								<td class="soft small">{settled(line)}</td>
							{/if}
						</tr>
					{/each}
				</tbody>
			</table>
			{#if isDraft && mayMove}<div class="add">
					<ItemSeek
						label="Add an item"
						bind:sought
						without={data.lines.map((line) => line.item_id)}
						onpick={add}
					/>
				</div>{/if}
			{#if data.entries.length}
				<h2>What it posted</h2>
				<Posted entries={data.entries} />
			{/if}
			{#snippet side()}
				<section>
					<h2>On the way</h2>
					<p class="worth">
						{figure(data.value)} <span class="soft small">{session.currency}</span>
					</p>
					<p class="soft small">
						{#if isDraft}Nothing has left yet. It leaves at the moving average, out of Inventory
							into Goods in transit.
						{:else if isOpen}In Goods in transit, at the cost at which it left.
						{:else}Everything is settled.{/if}
					</p>
					{#if isHeld}<p class="soft small">
							What is reserved is for this transfer alone, and offered to nobody else.
						</p>{/if}
				</section>
				<section>
					<h2>What happened</h2>
					<TimeLine history={data.history} />
				</section>
			{/snippet}
		</Thing>
	{:else}<Pending query={transfer} />{/if}
	{#snippet totals()}
		{#if data}
			{#if isOpen && mayReceive}
				<button class="quiet" onclick={all}>Everything arrived</button>
				<button class="do" disabled={busy || !isEdited} onclick={receive}>Receive</button>
			{/if}
			{#if isOpen && session.may('adjust stock')}
				<select class="field" aria-label="Why it will not arrive" bind:value={reason}>
					<option>lost</option><option>damaged</option><option>expired</option>
				</select>
				<button class="quiet" disabled={busy || !isEdited} onclick={giveUp}>Write off</button>
			{/if}
			<span class="bad" role="alert">{refusal}</span>
			{#if isDraft && mayMove}
				<span class="ml-auto"></span>
				{#if isHeld}<button class="quiet" disabled={busy || isEdited} onclick={release}
						>Release the goods</button
					>{/if}
				{#if isShort}<button
						class="quiet"
						disabled={busy || isEdited}
						title={isEdited ? 'Save first' : ''}
						onclick={reserve}>Reserve the goods</button
					>{/if}
				{#if isEdited}<button class="quiet" onclick={drop}>Undo</button><button
						class="quiet"
						disabled={busy || isOvertaken}
						onclick={save}>Save</button
					>{/if}
				<button
					class="do"
					disabled={busy || isEdited || !data.lines.length}
					title={isEdited ? 'Save first' : ''}
					onclick={send}>Send</button
				>
			{/if}
		{/if}
	{/snippet}
</Sheet>

<style>
	.qty {
		width: 82px;
		text-align: right;
	}
	.add {
		display: flex;
		flex-wrap: wrap;
		gap: 8px 14px;
		padding: 14px 20px;
	}
	.short {
		color: var(--ochre);
		font-weight: 600;
	}
	.worth {
		font-size: 19px;
		line-height: 28px;
		font-variant-numeric: tabular-nums;
	}
	.bad {
		color: var(--madder);
	}
</style>

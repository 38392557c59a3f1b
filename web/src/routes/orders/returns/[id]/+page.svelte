<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { figure, moment } from '#lib/format.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import Credits from '#lib/ui/Credits.svelte';
	import Faulty from '#lib/ui/Faulty.svelte';
	import ItemName from '#lib/ui/ItemName.svelte';
	import Mark from '#lib/ui/Mark.svelte';
	import Overtaken from '#lib/ui/Overtaken.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Posted from '#lib/ui/Posted.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';
	import TimeLine from '#lib/ui/TimeLine.svelte';

	const client = useQueryClient();
	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { return_id: id } });
	const back = createQuery(() => ({
		queryKey: ['return', id],
		queryFn: () => ask(api.GET('/api/v1/returns/{return_id}', { params }))
	}));
	const data = $derived(back.data);
	const isOpen = $derived(['expected', 'part-received'].includes(data?.state ?? ''));
	const mayReceive = $derived(session.may('receive goods'));
	const form = new FormState<Record<string, string>>(
		() => ({}),
		() => data?.version
	).guard();
	const key = $derived(form.typed && onceKey());
	const FATES = [
		['restock', 'Back to stock'],
		['repair', 'To repair'],
		['write_off', 'Write off']
	] as const;
	const number = (text: string | undefined): string => (text ?? '').trim().replace(',', '.') || '0';
	async function act(said: string, work: () => Promise<Schemas['ReturnOut']>): Promise<void> {
		const found = await form.send(work);
		if (found) {
			client.setQueryData(['return', id], found);
			notices.say(said);
		}
	}

	const inspect = (): Promise<void> =>
		act('Done.', () =>
			ask(
				api.POST('/api/v1/returns/{return_id}/inspect', {
					params,
					headers: { 'Idempotency-Key': key },
					body: {
						version: form.version,
						lines: (data?.lines ?? []).map((line) => ({
							line_id: line.id,
							restock: number(form.value[`restock${line.id}`]),
							repair: number(form.value[`repair${line.id}`]),
							write_off: number(form.value[`write_off${line.id}`])
						}))
					}
				})
			)
		);
	const close = (): Promise<void> =>
		act('The rest is taken off.', () =>
			ask(
				api.POST('/api/v1/returns/{return_id}/close', {
					params,
					body: { version: data?.version ?? 0 }
				})
			)
		);

	function all(): void {
		for (const line of data?.lines ?? [])
			if (Number(line.left) > 0) form.set({ [`restock${line.id}`]: `${Number(line.left)}` });
	}
</script>

<Sheet question={data ? `${data.number} of ${data.order}` : 'Return'} tabs={ORDER_TABS}>
	{#snippet lead()}
		{#if data}<a href="/orders/{data.order_id}">Order {data.order}</a>
			· {data.customer || data.channel} · back to {data.location} · since {moment(data.made_at)}
			{#if data.note}· “{data.note}”{/if}{/if}
	{/snippet}
	{#snippet filters()}
		{#if data}
			<Mark state={data.state} ofGoods />
			{#if isOpen && mayReceive}<button class="quiet" disabled={form.busy} onclick={close}
					>{data.state === 'expected' ? 'Cancel the return' : 'The rest will not come'}</button
				>{/if}
			{#if data.to_credit && data.state !== 'cancelled' && session.may('keep the books')}<a
					class={isOpen ? 'quiet' : 'do'}
					href="/orders/{data.order_id}/credit?back={data.id}">Credit it</a
				>{/if}
		{/if}
	{/snippet}
	{#if data}
		{#if form.isOvertaken}<Overtaken
				onkeep={() => form.typing.keep()}
				ontake={() => form.drop()}
			/>{/if}
		<Thing>
			<table class="rows">
				<thead
					><tr
						><th>Goods</th><th>Why</th><th class="num">Units</th>{#if isOpen}<th class="num"
								>To come</th
							>{/if}{#if isOpen && mayReceive}{#each FATES as [fate, head] (fate)}<th class="num"
									>{head}</th
								>{/each}{:else}<th class="num">In stock</th><th class="num">Repair</th><th
								class="num">Written off</th
							>{/if}<th class="num">Cost {session.currency}</th></tr
					></thead
				>
				<tbody>
					{#each data.lines as line (line.id)}
						<tr data-row>
							<td
								><ItemName
									id={line.item_id ?? 0}
									title={line.title}
									sku={line.sku}
									picture={line.picture ?? null}
								/></td
							>
							{#if line.fault}<Faulty said={line.fault} span={7} />{:else}
								<td class="soft">{line.reason}</td>
								<td class="num">{figure(line.quantity)}</td>
								{#if isOpen}<td class="num">{figure(line.left)}</td>{/if}
								{#if isOpen && mayReceive}
									{#each FATES as [fate, head] (fate)}
										{@const name = `${fate}${line.id}`}
										<td class="num"
											>{#if Number(line.left) > 0}<input
													class="field qty"
													inputmode="decimal"
													aria-label="{head}: {line.title}"
													aria-invalid={form.wrong(`lines.${line.id}`)}
													value={form.value[name] ?? ''}
													oninput={(e) => form.set({ [name]: e.currentTarget.value })}
												/>{/if}</td
										>
									{/each}
								{:else}
									<td class="num">{figure(line.restocked)}</td>
									<td class="num">{figure(line.repair)}</td>
									<td class="num">{figure(line.written_off)}</td>
								{/if}
								<td class="num">{Number(line.value) ? figure(line.value) : '–'}</td>
							{/if}
						</tr>
					{/each}
				</tbody>
			</table>
			{#if data.credits.length}
				<h2>What was given back</h2>
				<Credits rows={data.credits} channel={data.channel} />
			{/if}
			{#if data.entries.length}
				<h2>What it posted</h2>
				<Posted entries={data.entries} />
			{/if}
			{#snippet side()}
				<section>
					<h2>What came back</h2>
					<p class="worth">
						{figure(data.value, '0.00')} <span class="soft small">{session.currency}</span>
					</p>
					<p class="soft small">
						At the cost at which it left. Goods to repair go to the repair bench, from where nothing
						is sold; what is written off stays a cost of the sale.
					</p>
				</section>
				<section>
					<h2>What happened</h2>
					<TimeLine history={data.history} />
				</section>
			{/snippet}
		</Thing>
	{:else}<Pending query={back} />{/if}
	{#snippet totals()}
		{#if data && isOpen && mayReceive}
			<button class="quiet" onclick={all}>All of it back to stock</button>
			<button
				class="do"
				disabled={form.busy || !form.isEdited || form.isOvertaken}
				onclick={inspect}>Take it in</button
			>
		{/if}
		<span class="bad" role="alert">{form.refusal?.message ?? ''}</span>
	{/snippet}
</Sheet>

<style>
	.qty {
		width: 64px;
		text-align: right;
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

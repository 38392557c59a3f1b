<script lang="ts">
	import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';
	import Thumb from '#lib/ui/Thumb.svelte';

	/** What of an order is given back: worked out by the server while it is typed. */
	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { order_id: id } });
	const back = Number(page.url.searchParams.get('back') ?? 0) || undefined;
	const order = createQuery(() => ({
		queryKey: ['creditable', id, back],
		queryFn: () =>
			ask(
				api.GET('/api/v1/orders/{order_id}/creditable', {
					params: { ...params, query: { back } }
				})
			)
	}));
	const data = $derived(order.data);
	type Line = Schemas['CreditableLine'];
	const form = new FormState<Record<string, string>>(() =>
		Object.fromEntries(
			(data?.lines ?? [])
				.filter((line) => Number(line.units) > 0)
				.map((line) => [`q${line.line_id}`, `${Number(line.units)}`])
		)
	).guard();
	const key = $derived(form.typed && onceKey());
	const isGoods = (line: Line): boolean => ['item', 'service'].includes(line.kind);
	const number = (text: string | undefined): string => (text ?? '').trim().replace(',', '.');
	const wanted = $derived({
		fee: number(form.value.fee) || '0',
		lines: (data?.lines ?? [])
			.map((line) => ({
				line_id: line.line_id,
				quantity: number(form.value[`q${line.line_id}`]) || '0',
				gross: number(form.value[`g${line.line_id}`]) || null
			}))
			.filter((line) => line.quantity !== '0' || line.gross !== null)
	});
	const resting = new Resting(() => JSON.stringify(wanted));
	const trial = createQuery(() => ({
		queryKey: ['credit trial', id, resting.value],
		queryFn: () =>
			ask(
				api.POST('/api/v1/orders/{order_id}/credits/rehearsal', {
					params,
					body: JSON.parse(resting.value) as typeof wanted
				})
			),
		enabled: resting.value.includes('line_id'),
		placeholderData: keepPreviousData,
		retry: false
	}));
	const said = $derived(wanted.lines.length && !trial.error ? trial.data : undefined);
	const gives = (line: Line): string =>
		said?.lines.find((one) => one.line_id === line.line_id)?.gross ?? '';
	const telling = $derived(form.value.tell !== 'no' && !!data?.channel_pays);

	async function make(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const made = await form.send(() =>
			ask(
				api.POST('/api/v1/orders/{order_id}/credits', {
					params,
					headers: { 'Idempotency-Key': key },
					body: {
						...wanted,
						note: form.value.note ?? '',
						back_id: back ?? null,
						tell_channel: telling
					}
				})
			)
		);
		if (made) await goto(`/orders/${id}`);
	}
</script>

<Sheet question={data ? `What is given back of ${data.order}?` : 'Credit note'} tabs={ORDER_TABS}>
	{#snippet lead()}{#if data}<a href="/orders/{id}">Order {data.order}</a>
			· {data.customer || data.channel}
			{#if data.back}· for <a href="/orders/returns/{data.back_id}">{data.back}</a>{/if}. Goods at
			what they were sold for, after their share of a discount.{/if}{/snippet}
	{#if data}
		<form id="credit" onsubmit={make}>
			<Thing>
				<table class="rows">
					<thead
						><tr
							><th>Line</th><th class="num">Units left</th><th class="num">Amount left</th><th
								class="num">Units</th
							><th class="num">Amount with tax</th></tr
						></thead
					>
					<tbody>
						{#each data.lines as line (line.line_id)}
							<tr data-row>
								<td
									>{#if line.item_id}<Thumb picture={line.picture} />{/if}{line.title}
									<span class="soft small">{line.sku || line.kind}</span></td
								>
								<td class="num">{isGoods(line) ? figure(line.units_left) : ''}</td>
								<td class="num soft">{figure(line.gross_left)}</td>
								<td class="num"
									>{#if isGoods(line) && Number(line.units_left) > 0}<input
											class="field qty"
											inputmode="decimal"
											aria-label="Units of {line.title}"
											value={form.value[`q${line.line_id}`] ?? ''}
											oninput={(e) => form.set({ [`q${line.line_id}`]: e.currentTarget.value })}
										/>{/if}</td
								>
								<td class="num"
									>{#if Number(line.gross_left) > 0}<input
											class="field sum"
											inputmode="decimal"
											aria-label="Amount of {line.title}"
											placeholder={gives(line)}
											value={form.value[`g${line.line_id}`] ?? ''}
											oninput={(e) => form.set({ [`g${line.line_id}`]: e.currentTarget.value })}
										/>{/if}</td
								>
							</tr>
						{/each}
					</tbody>
				</table>
				<div class="more">
					<label
						>Kept for taking it back, with tax <input
							class="field sum"
							inputmode="decimal"
							value={form.value.fee ?? ''}
							oninput={(e) => form.set({ fee: e.currentTarget.value })}
						/></label
					>
					<label
						>Note for the customer <input
							class="field note"
							maxlength="300"
							value={form.value.note ?? ''}
							oninput={(e) => form.set({ note: e.currentTarget.value })}
						/></label
					>
					{#if data.channel_pays}<label class="tick"
							><input
								type="checkbox"
								checked={telling}
								onchange={(e) => form.set({ tell: e.currentTarget.checked ? 'yes' : 'no' })}
							/>
							{data.channel} pays it back</label
						>{/if}
				</div>
				{#snippet side()}
					<section>
						<h2>It comes to</h2>
						{#if said}
							<table class="sum" aria-label="It comes to">
								<tbody>
									<tr><td>Without tax</td><td class="num">{figure(said.net)}</td></tr>
									<tr><td>Tax</td><td class="num">{figure(said.tax)}</td></tr>
									<tr class="total"
										><td>Credited {data.currency}</td><td class="num">{figure(said.total)}</td></tr
									>
								</tbody>
							</table>
							<p class="soft small">
								{#if Number(said.owed)}{figure(said.owed)} is set off against what {data.customer ||
										'the customer'} owes.{/if}
								{#if Number(said.refunded)}{figure(said.refunded)} goes back {telling
										? `through ${data.channel}`
										: 'by hand'}.{/if}
							</p>
						{:else}
							<p class="soft small">Enter units, or an amount to lower the price alone.</p>
						{/if}
					</section>
				{/snippet}
			</Thing>
		</form>
	{:else}<Pending query={order} />{/if}
	{#snippet totals()}
		<button class="do" form="credit" disabled={form.busy || !said}>Write the credit note</button>
		<span class="bad" role="alert"
			>{form.refusal?.message ?? (wanted.lines.length ? trial.error?.message : '') ?? ''}</span
		>
	{/snippet}
</Sheet>

<style>
	form {
		display: grid;
		min-height: 100%;
	}
	.qty {
		width: 72px;
		text-align: right;
	}
	input.sum {
		width: 96px;
		text-align: right;
	}
	.note {
		width: 280px;
	}
	.more {
		display: flex;
		flex-wrap: wrap;
		align-items: center;
		gap: 10px 18px;
		padding: 14px 20px;
	}
	.tick {
		display: inline-flex;
		gap: 6px;
		align-items: center;
		min-height: 24px;
	}
	.bad {
		color: var(--madder);
	}
</style>

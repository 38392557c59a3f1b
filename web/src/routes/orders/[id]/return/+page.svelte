<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import { ORDER_TABS } from '#lib/tabs.ts';
	import ItemName from '#lib/ui/ItemName.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	/** What of an order is to come back, and why. */
	const id = $derived(Number(page.params.id));
	const params = $derived({ path: { order_id: id } });
	const order = createQuery(() => ({
		queryKey: ['order', id],
		queryFn: () => ask(api.GET('/api/v1/orders/{order_id}', { params }))
	}));
	type Reason = NonNullable<Schemas['ComingIn']['reason']>;
	const REASONS: readonly Reason[] = [
		'other',
		'unwanted',
		'does not fit',
		'faulty',
		'damaged on the way',
		'wrong item',
		'came too late'
	];
	const lines = $derived((order.data?.lines ?? []).filter((line) => Number(line.can_return) > 0));
	const form = new FormState<Record<string, string>>(() => ({ note: '' })).guard();
	const key = $derived(form.typed && onceKey());

	async function make(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const typed = form.value;
		const made = await form.send(() =>
			ask(
				api.POST('/api/v1/orders/{order_id}/returns', {
					params,
					headers: { 'Idempotency-Key': key },
					body: {
						note: typed.note ?? '',
						lines: lines
							.filter((line) => typed[`q${line.id}`]?.trim())
							.map((line) => ({
								line_id: line.id,
								quantity: typed[`q${line.id}`]?.trim().replace(',', '.') ?? '0',
								reason: (typed[`r${line.id}`] ?? 'other') as Reason
							}))
					}
				})
			)
		);
		if (made) await goto(`/orders/returns/${made.id}`);
	}
</script>

<Sheet
	question={order.data ? `What of ${order.data.number} comes back?` : 'Return'}
	tabs={ORDER_TABS}
>
	{#snippet lead()}{#if order.data}<a href="/orders/{id}">{order.data.number}</a>
			· {order.data.customer || order.data.channel} · back to {order.data.location}. Nothing moves
			until the goods are here.{/if}{/snippet}
	{#if order.data && lines.length}
		<form class="fit" id="return" onsubmit={make}>
			<table class="rows">
				<thead
					><tr
						><th>Goods</th><th class="num">Can come back</th><th class="num">Units</th><th>Why</th
						></tr
					></thead
				>
				<tbody>
					{#each lines as line (line.id)}
						<tr data-row>
							<td
								><ItemName
									id={line.item_id ?? 0}
									title={line.title}
									sku={line.sku}
									picture={line.picture ?? null}
								/></td
							>
							<td class="num">{figure(line.can_return)}</td>
							<td class="num"
								><input
									class="field qty"
									inputmode="decimal"
									aria-label="Units of {line.title}"
									aria-invalid={form.wrong(`lines.${line.id}`)}
									value={form.value[`q${line.id}`] ?? ''}
									oninput={(e) => form.set({ [`q${line.id}`]: e.currentTarget.value })}
								/></td
							>
							<td
								><select
									class="field"
									aria-label="Why {line.title} comes back"
									value={form.value[`r${line.id}`] ?? 'other'}
									onchange={(e) => form.set({ [`r${line.id}`]: e.currentTarget.value })}
								>
									{#each REASONS as reason (reason)}<option>{reason}</option>{/each}
								</select></td
							>
						</tr>
					{/each}
				</tbody>
			</table>
			<div class="end">
				<label
					>Note <input
						class="field note"
						maxlength="300"
						value={form.value.note ?? ''}
						oninput={(e) => form.set({ note: e.currentTarget.value })}
					/></label
				>
			</div>
		</form>
	{:else if order.data}
		<p class="soft nothing">
			Nothing of this order can come back: what left is on returns already.
		</p>
	{:else}<Pending query={order} />{/if}
	{#snippet totals()}
		<button class="do" form="return" disabled={form.busy || !form.isEdited}>Expect it back</button>
		<span class="bad" role="alert">{form.refusal?.message ?? ''}</span>
	{/snippet}
</Sheet>

<style>
	.fit {
		max-width: 860px;
	}
	.qty {
		width: 82px;
		text-align: right;
	}
	.note {
		width: 300px;
	}
	.end {
		padding: 14px 20px;
	}
	.nothing {
		padding: 16px 20px;
	}
	.bad {
		color: var(--madder);
	}
</style>

<script lang="ts">
	import { api, ask, onceKey, Problem, type Schemas } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Dialogue from './Dialogue.svelte';

	/** Put stock right, with a reason; it posts at once. */
	type Props = { row: Schemas['StockRow']; onclose: () => void; ondone: () => void };
	let { row, onclose, ondone }: Props = $props();
	const REASONS = ['count', 'found', 'damaged', 'lost', 'expired', 'sample'];
	let reason = $state('count');
	let quantity = $state('');
	let note = $state('');
	let refusal = $state<{ text: string; field: string } | null>(null);
	let busy = $state(false);
	const key = onceKey();
	const isCount = $derived(reason === 'count');

	async function submit(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		const signed = reason === 'found' ? quantity : `-${quantity.replace('-', '')}`;
		try {
			const done = await ask(
				api.POST('/api/v1/adjustments', {
					body: {
						item_id: row.item_id,
						location_id: row.location_id,
						reason,
						note,
						...(isCount ? { counted: quantity } : { change: signed })
					},
					headers: { 'Idempotency-Key': `${key}-${reason}-${quantity}` }
				})
			);
			notices.say(`${row.sku}: ${done.said}`);
			ondone();
		} catch (error) {
			const problem = error as Problem;
			refusal = { text: problem.message, field: problem.field };
		}
		busy = false;
	}
</script>

<Dialogue isOpen {onclose} title="Adjust {row.title}">
	<p class="soft mb-3">
		{row.location}: {figure(row.on_hand, '0')} on hand, {figure(row.committed, '0')} committed.
	</p>
	<form class="grid gap-3" onsubmit={submit}>
		<label class="ask"
			>Reason
			<select class="field" bind:value={reason}>
				{#each REASONS as name (name)}<option value={name}
						>{name === 'count' ? 'counted' : name}</option
					>{/each}
			</select></label
		>
		<label class="ask"
			>{isCount
				? 'How many are there?'
				: reason === 'found'
					? 'How many were found?'
					: 'How many are gone?'}
			<input
				class="field"
				inputmode="decimal"
				required
				aria-invalid={refusal !== null}
				aria-describedby="refusal"
				bind:value={quantity}
			/></label
		>
		<label class="ask">Note <input class="field" maxlength="200" bind:value={note} /></label>
		<p id="refusal" class="bad" role="alert">{refusal?.text ?? ''}</p>
		<div class="flex gap-2 justify-end">
			<button type="button" class="quiet" onclick={onclose}>Cancel</button>
			<button class="do" disabled={busy || !quantity}>Post</button>
		</div>
	</form>
</Dialogue>

<style>
	.bad {
		color: var(--madder);
	}
	.bad:empty {
		display: none;
	}
</style>

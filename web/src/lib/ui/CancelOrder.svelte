<script lang="ts">
	import { changed } from '#lib/changes.ts';
	import { api, ask } from '#lib/api/client.ts';
	import type { Schemas } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Dialogue from './Dialogue.svelte';

	/** Cancels what has not left of an order, after saying what that means for goods, money and the channel. */
	type Props = { order: Schemas['OrderOut']; onclose: () => void };
	let { order, onclose }: Props = $props();
	let why = $state('');
	let refusal = $state('');
	let busy = $state(false);

	async function cancel(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = '';
		try {
			const { said } = await ask(
				api.POST('/api/v1/orders/{order_id}/cancel', {
					params: { path: { order_id: order.id } },
					body: { why }
				})
			);
			notices.say(said);
			onclose();
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
		await changed();
	}
</script>

<Dialogue isOpen title="Cancel order {order.number}" {onclose}>
	<form onsubmit={cancel}>
		<ul>
			{#each order.if_cancelled as line (line)}<li>{line}</li>{/each}
		</ul>
		<label class="ask"
			>Reason<input class="field w-full" bind:value={why} maxlength="300" required /></label
		>
		{#if refusal}<p class="bad" role="alert">{refusal}</p>{/if}
		<div class="foot">
			<button type="button" class="quiet" onclick={onclose}>Keep the order</button>
			<button type="submit" class="do" disabled={busy}>Cancel the order</button>
		</div>
	</form>
</Dialogue>

<style>
	ul {
		list-style: disc;
		padding-left: 18px;
		margin: 6px 0 12px;
	}
	li {
		margin: 2px 0;
	}
	.bad {
		color: var(--madder);
	}
	.foot {
		display: flex;
		gap: 8px;
		justify-content: flex-end;
		margin-top: 14px;
	}
</style>

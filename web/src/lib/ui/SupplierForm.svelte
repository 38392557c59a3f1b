<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { api, ask, onceKey, Problem, type Schemas } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { Typing } from '#lib/typing.svelte.ts';
	import Overtaken from './Overtaken.svelte';

	/** What a supplier is: a new one, or one that is there. */
	type Props = { data: Schemas['SupplierOut'] | null; onsaved: (id: number) => void };
	type Facts = Omit<Schemas['SupplierIn'], 'version'>;
	let { data, onsaved }: Props = $props();
	const client = useQueryClient();
	let typed = $state<Partial<Facts>>({});
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
	// What was refused and then changed is another request.
	let key = onceKey();
	const typing = new Typing(() => data?.version);
	const may = $derived(session.may('buy'));
	const now = $derived({
		name: '',
		currency: session.currency,
		lead_days: 14,
		lead_deviation_days: '0',
		order_minimum: '0',
		email: '',
		inbox_id: null,
		...data,
		...typed
	});
	const isEdited = $derived(Object.keys(typed).length > 0);
	const isOvertaken = $derived(isEdited && typing.isOvertaken);
	const inboxes = createQuery(() => ({
		queryKey: ['inboxes', data?.id],
		queryFn: () =>
			ask(
				api.GET('/api/v1/suppliers/inboxes', {
					params: { query: data ? { supplier: data.id } : {} }
				})
			),
		enabled: may
	}));
	const wrong = (field: string): true | undefined => refusal?.field === field || undefined;
	// What is no number goes as it was typed: the server refuses it by name, and it stays in the field.
	const days = (text: string): number =>
		/^\s*\d+\s*$/.test(text) ? Number(text) : (text as unknown as number);

	function set(change: Partial<Facts>): void {
		typing.begin();
		refusal = null;
		key = onceKey();
		typed = { ...typed, ...change };
	}

	function drop(): void {
		typed = {};
		refusal = null;
		typing.end();
	}

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		try {
			const kept = await ask(
				data
					? api.PATCH('/api/v1/suppliers/{supplier_id}', {
							params: { path: { supplier_id: data.id } },
							body: { ...typed, version: typing.version } as Schemas['SupplierIn']
						})
					: api.POST('/api/v1/suppliers', {
							body: { currency: session.currency, ...typed } as Schemas['SupplierIn'],
							headers: { 'Idempotency-Key': key }
						})
			);
			notices.say(data ? 'Saved. Replenishment follows.' : `${kept.name} is added.`);
			drop();
			onsaved(kept.id);
		} catch (error) {
			if (error instanceof Problem) refusal = error;
			else notices.fail(error);
		}
		busy = false;
		await client.invalidateQueries();
	}
</script>

<form onsubmit={save} aria-label="Supplier">
	{#if isOvertaken}<Overtaken onkeep={() => typing.keep()} ontake={drop} />{/if}
	<fieldset disabled={!may || busy}>
		<label class="ask"
			>Name
			<input
				class="field"
				maxlength="120"
				aria-invalid={wrong('name')}
				value={now.name}
				oninput={(event) => set({ name: event.currentTarget.value })}
			/></label
		>
		<div class="pair">
			<label class="ask"
				>Currency
				<input
					class="field"
					maxlength="3"
					aria-invalid={wrong('currency')}
					value={now.currency}
					oninput={(event) => set({ currency: event.currentTarget.value.toUpperCase() })}
				/></label
			>
			<label class="ask"
				>Order minimum, {now.currency}
				<input
					class="field"
					inputmode="decimal"
					aria-invalid={wrong('order_minimum')}
					value={now.order_minimum}
					oninput={(event) => set({ order_minimum: event.currentTarget.value || '0' })}
				/></label
			>
		</div>
		<div class="pair">
			<label class="ask"
				>Lead time, days
				<input
					class="field"
					inputmode="numeric"
					aria-invalid={wrong('lead_days')}
					value={now.lead_days}
					oninput={(event) => set({ lead_days: days(event.currentTarget.value) })}
				/></label
			>
			<label class="ask"
				>Lead time variation, days
				<input
					class="field"
					inputmode="decimal"
					title="The standard deviation of the lead time; safety stock grows with it"
					aria-invalid={wrong('lead_deviation_days')}
					value={typed.lead_deviation_days ?? String(Number(now.lead_deviation_days))}
					oninput={(event) => set({ lead_deviation_days: event.currentTarget.value || '0' })}
				/></label
			>
		</div>
		<label class="ask"
			>Email
			<input
				class="field"
				maxlength="160"
				aria-invalid={wrong('email')}
				value={now.email}
				oninput={(event) => set({ email: event.currentTarget.value })}
			/></label
		>
		<label class="ask"
			>Inbox for orders
			<select
				class="field"
				aria-invalid={wrong('inbox_id')}
				value={now.inbox_id === null ? '' : String(now.inbox_id)}
				onchange={(event) =>
					set({ inbox_id: event.currentTarget.value ? Number(event.currentTarget.value) : null })}
			>
				<option value="">none: orders go as PDF</option>
				{#if data?.inbox_id && !inboxes.data}<option value={String(data.inbox_id)}
						>{data.inbox}</option
					>{/if}
				{#each inboxes.data ?? [] as inbox (inbox.id)}<option value={String(inbox.id)}
						>{inbox.name}</option
					>{/each}
			</select></label
		>
	</fieldset>
	{#if refusal}<p class="refusal" role="alert">{refusal.message}</p>{/if}
	{#if may}<p class="foot">
			<button class="do" disabled={!isEdited || isOvertaken || busy}
				>{data ? 'Save supplier' : 'Add'}</button
			>
			{#if isEdited && data}<button type="button" class="quiet" onclick={drop}>Undo</button>{/if}
		</p>{/if}
</form>

<style>
	fieldset {
		display: grid;
		gap: 10px;
	}
	.ask > .field {
		width: 100%;
	}
	.foot {
		display: flex;
		gap: 8px;
		margin-top: 12px;
	}
</style>

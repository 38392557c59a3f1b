<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, onceKey, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Overtaken from './Overtaken.svelte';

	/** What a supplier is: a new one, or one that is there. */
	type Props = { data: Schemas['SupplierOut'] | null; onsaved: (id: number) => void };
	let { data, onsaved }: Props = $props();
	const may = $derived(session.may('buy'));
	const form = new FormState(
		() => ({
			name: data?.name ?? '',
			currency: data?.currency ?? session.currency,
			order_minimum: data?.order_minimum ?? '0',
			lead_days: `${data?.lead_days ?? 14}`,
			lead_deviation_days: `${Number(data?.lead_deviation_days ?? 0)}`,
			email: data?.email ?? '',
			inbox_id: `${data?.inbox_id ?? ''}`
		}),
		() => data?.version
	).guard();
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
	const choices = $derived([
		{ value: '', label: 'none: orders go as PDF' },
		...(inboxes.data ?? (data?.inbox_id ? [{ id: data.inbox_id, name: data.inbox }] : [])).map(
			(inbox) => ({ value: `${inbox.id}`, label: inbox.name })
		)
	]);
	// What was refused and then changed is another request.
	let once = { said: '', key: '' };

	/** Only what was typed; what is no number goes as it was typed, and is refused by name. */
	function asSent(): Partial<Schemas['SupplierIn']> {
		const { lead_days, inbox_id, currency, ...others } = form.typed;
		const days = /^\s*\d+\s*$/.test(lead_days ?? '') ? Number(lead_days) : lead_days;
		for (const name of ['order_minimum', 'lead_deviation_days'] as const)
			if (others[name] === '') others[name] = '0';
		return {
			...others,
			...(currency === undefined ? {} : { currency: currency.toUpperCase() }),
			...(lead_days === undefined ? {} : { lead_days: days as number }),
			...(inbox_id === undefined ? {} : { inbox_id: inbox_id ? Number(inbox_id) : null })
		};
	}

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const told = asSent();
		const said = JSON.stringify(told);
		if (said !== once.said) once = { said, key: onceKey() };
		const kept = await form.send(() =>
			ask(
				data
					? api.PATCH('/api/v1/suppliers/{supplier_id}', {
							params: { path: { supplier_id: data.id } },
							body: { ...told, version: form.version } as Schemas['SupplierIn']
						})
					: api.POST('/api/v1/suppliers', {
							body: { currency: session.currency, ...told } as Schemas['SupplierIn'],
							headers: { 'Idempotency-Key': once.key }
						})
			)
		);
		if (kept) {
			notices.say(data ? 'Saved. Replenishment follows.' : `${kept.name} is added.`);
			onsaved(kept.id);
		}
	}
</script>

<form onsubmit={save} aria-label="Supplier">
	{#if form.isOvertaken}<Overtaken
			onkeep={() => form.typing.keep()}
			ontake={() => form.drop()}
		/>{/if}
	<fieldset disabled={!may || form.busy}>
		<Field {form} name="name" label="Name" max={120} />
		<div class="pair">
			<Field {form} name="currency" label="Currency" max={3} />
			<Field
				{form}
				name="order_minimum"
				label="Order minimum, {form.value.currency.toUpperCase()}"
				kind="number"
			/>
		</div>
		<div class="pair">
			<Field {form} name="lead_days" label="Lead time, days" kind="number" hint="On average" />
			<Field
				{form}
				name="lead_deviation_days"
				label="Lead time variation, days"
				kind="number"
				hint="Standard deviation"
			/>
		</div>
		<Field {form} name="email" label="Email" max={160} />
		<Field {form} name="inbox_id" label="Inbox for orders" kind="choice" {choices} />
	</fieldset>
	{#if may}<SaveLine {form} save={data ? 'Save supplier' : 'Add'} />{/if}
</form>

<style>
	fieldset {
		display: grid;
		gap: 10px;
	}
</style>

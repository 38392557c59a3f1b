<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Overtaken from './Overtaken.svelte';

	/** Who a customer is, and which prices count. */
	type Customer = Schemas['CustomerOut'];
	type Props = { customer: Customer | null; onkept: (customer: Customer) => void };
	let { customer, onkept }: Props = $props();
	type Facts = {
		name: string;
		email: string;
		on_account: boolean;
		group_id: string;
		price_list_id: string;
		note: string;
		payment_days: string;
		street: string;
		city: string;
		postcode: string;
		country: string;
	};
	const form = new FormState<Facts>(
		() =>
			customer
				? {
						...customer,
						group_id: `${customer.group_id ?? ''}`,
						price_list_id: `${customer.price_list_id ?? ''}`,
						payment_days: `${customer.payment_days ?? ''}`
					}
				: {
						name: '',
						email: '',
						on_account: false,
						group_id: '',
						price_list_id: '',
						note: '',
						payment_days: '',
						street: '',
						city: '',
						postcode: '',
						country: ''
					},
		() => customer?.version
	);
	const groups = createQuery(() => ({
		queryKey: ['customer groups'],
		queryFn: () => ask(api.GET('/api/v1/customer-groups'))
	}));
	const lists = createQuery(() => ({
		queryKey: ['price lists'],
		queryFn: () => ask(api.GET('/api/v1/price-lists'))
	}));
	const none = (label: string): { value: string; label: string } => ({ value: '', label });
	const may = $derived(session.may('keep customers'));

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const { group_id, price_list_id, payment_days, ...others } = form.typed;
		const body: Schemas['CustomerIn'] = { ...others, version: form.version };
		if (group_id !== undefined) body.group_id = group_id ? Number(group_id) : null;
		if (price_list_id !== undefined)
			body.price_list_id = price_list_id ? Number(price_list_id) : null;
		if (payment_days !== undefined)
			body.payment_days = payment_days.trim() ? Number(payment_days) : null;
		const kept = await form.send(() =>
			customer
				? ask(
						api.PATCH('/api/v1/customers/{customer_id}', {
							params: { path: { customer_id: customer.id } },
							body
						})
					)
				: ask(api.POST('/api/v1/customers', { body }))
		);
		if (!kept) return;
		notices.say(customer ? 'Saved.' : `${kept.name} is added.`);
		onkept(kept);
	}
</script>

<form onsubmit={save} aria-label="Customer">
	{#if form.isOvertaken}<Overtaken
			onkeep={() => form.typing.keep()}
			ontake={() => form.drop()}
		/>{/if}
	<fieldset disabled={!may || form.busy}>
		<Field {form} name="name" label="Name" max={160} />
		<Field {form} name="email" label="Mail" max={160} />
		<Field {form} name="street" label="Street" max={160} />
		<div class="where">
			<Field {form} name="postcode" label="Postcode" max={20} />
			<Field {form} name="city" label="Town" max={80} />
			<Field {form} name="country" label="Country" max={2} />
		</div>
		{#if session.may('change prices')}
			<Field
				{form}
				name="group_id"
				label="Group"
				kind="choice"
				choices={[
					none('no group'),
					...(groups.data ?? []).map((one) => ({ value: `${one.id}`, label: one.name }))
				]}
			/>
			<Field
				{form}
				name="price_list_id"
				label="Price list of their own"
				kind="choice"
				choices={[
					none('none: the group’s, else the base prices'),
					...(lists.data?.rows ?? [])
						.filter((one) => !one.base)
						.map((one) => ({ value: `${one.id}`, label: one.name }))
				]}
			/>
		{/if}
		<Field {form} name="note" label="Note" kind="long" max={500} />
		<Field {form} name="on_account" label="Buys on account" kind="tick" />
		<Field
			{form}
			name="payment_days"
			label="Payment terms, days"
			kind="number"
			hint="Empty: as the connection says."
		/>
	</fieldset>
	{#if may}<SaveLine {form} save={customer ? 'Save customer' : 'Add the customer'} />{/if}
</form>

<style>
	fieldset {
		display: grid;
		gap: 10px;
	}
	.where {
		display: grid;
		grid-template-columns: 100px minmax(0, 1fr) 70px;
		gap: 10px;
	}
</style>

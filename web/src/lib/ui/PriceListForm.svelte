<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { ROUNDINGS } from '#lib/prices.ts';
	import { session } from '#lib/session.svelte.ts';
	import Overtaken from './Overtaken.svelte';
	import PriceRehearsal from './PriceRehearsal.svelte';

	/** What makes a price list: new, or changed with what that would do to every price. */
	type List = Schemas['PriceListOut'];
	type Props = { list: List | null; onkept: (list: List) => void };
	let { list, onkept }: Props = $props();
	type Facts = {
		name: string;
		method: string;
		parent_id: string;
		percent: string;
		amount: string;
		ending: string;
		rounding: string;
		basis: string;
		currency: string;
		taxed: boolean;
		rate: string;
		starts_on: string;
		ends_on: string;
		note: string;
	};
	const START: Facts = {
		name: '',
		method: 'derived',
		parent_id: '',
		percent: '0',
		amount: '0',
		ending: '',
		rounding: 'up',
		basis: 'average',
		currency: session.currency,
		taxed: true,
		rate: '1',
		starts_on: '',
		ends_on: '',
		note: ''
	};
	const plain = (text: string): string => (/^-?0*\.?0*$/.test(text) ? '0' : text);
	const form = new FormState<Facts>(
		() =>
			list
				? {
						...list,
						percent: plain(list.percent),
						amount: plain(list.amount),
						parent_id: `${list.parent_id ?? ''}`,
						ending: list.ending ?? '',
						starts_on: list.starts_on ?? '',
						ends_on: list.ends_on ?? ''
					}
				: START,
		() => list?.version
	);
	let places = $state<number[] | null>(null);
	const lists = createQuery(() => ({
		queryKey: ['price lists'],
		queryFn: () => ask(api.GET('/api/v1/price-lists')),
		enabled: list === null
	}));
	const follows = $derived(
		(list?.may_follow ?? lists.data?.rows ?? []).map((one) => ({
			value: `${one.id}`,
			label: `${one.name}, ${one.currency}`
		}))
	);
	const METHODS = [
		{ value: 'derived', label: 'another list' },
		{ value: 'margin', label: 'cost, by margin' },
		{ value: 'markup', label: 'cost, by markup' },
		{ value: 'typed', label: 'typing only' }
	];
	const BASES = [
		{ value: 'average', label: 'moving average cost' },
		{ value: 'last', label: 'last cost' }
	];
	const method = $derived(form.value.method);
	const percentLabel = $derived(
		({ derived: 'Per cent up or down', margin: 'Margin, %', markup: 'Markup, %' } as const)[
			method as 'derived'
		] ?? ''
	);
	const NUMBERS = ['percent', 'amount', 'rate', 'ending'] as const;
	const OPEN = ['ending', 'starts_on', 'ends_on'] as const;

	/** As it is sent: only what was typed; an empty ending or day is none. */
	function asSent(typed: Partial<Facts>): Schemas['PriceListIn'] {
		const { parent_id, ...others } = typed;
		const body: Record<string, unknown> = { ...others };
		for (const name of NUMBERS)
			if (typeof body[name] === 'string')
				body[name] = (body[name] as string).trim().replace(',', '.') || '0';
		for (const name of OPEN)
			if (typed[name] !== undefined && !typed[name]?.trim()) body[name] = null;
		if (parent_id !== undefined) body['parent_id'] = parent_id ? Number(parent_id) : null;
		if (places) body['place_ids'] = places;
		return body as Schemas['PriceListIn'];
	}
	const isEdited = $derived(form.isEdited || places !== null);
	const touchesPrices = $derived(
		Object.keys(form.typed).some((name) => !['name', 'note'].includes(name))
	);

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const body = { ...asSent(list ? form.typed : form.value), version: form.version };
		const kept = await form.send(() =>
			list
				? ask(
						api.PATCH('/api/v1/price-lists/{list_id}', {
							params: { path: { list_id: list.id } },
							body: form.isEdited ? body : { ...body, version: list.version }
						})
					)
				: ask(api.POST('/api/v1/price-lists', { body: body as Schemas['NewPriceListIn'] }))
		);
		if (!kept) return;
		places = null;
		notices.say(list ? 'Saved. Prices are being worked out anew.' : `${kept.name} is made.`);
		onkept(kept);
	}
	const toggled = (id: number): number[] => {
		const now = places ?? list?.place_ids ?? [];
		return now.includes(id) ? now.filter((one) => one !== id) : [...now, id];
	};
</script>

<form onsubmit={save} aria-label="Price list">
	{#if form.isOvertaken}<Overtaken
			onkeep={() => form.typing.keep()}
			ontake={() => form.drop()}
		/>{/if}
	<fieldset disabled={form.busy}>
		<div class="row">
			<Field {form} name="name" label="Name" max={80} />
			{#if !list?.base}<Field
					{form}
					name="method"
					label="Prices come from"
					kind="choice"
					choices={METHODS}
				/>{/if}
			<Field {form} name="currency" label="Currency" max={3} />
			{#if form.value.currency
				.trim()
				.toUpperCase() !== session.currency || Number(form.value.rate) !== 1}<Field
					{form}
					name="rate"
					label="Rate"
					kind="number"
					hint={method === 'typed'
						? `Of its currency for one ${session.currency}: for margins`
						: 'Of its currency for one of what it comes from'}
				/>{/if}
			<Field {form} name="taxed" label="Prices hold the tax" kind="tick" />
		</div>
		{#if method !== 'typed'}
			<div class="row">
				{#if method === 'derived'}<Field
						{form}
						name="parent_id"
						label="List it follows"
						kind="choice"
						choices={list
							? follows
							: [{ value: '', label: 'the base prices' }, ...follows.slice(1)]}
					/>{:else}<Field {form} name="basis" label="Cost" kind="choice" choices={BASES} />{/if}
				<Field {form} name="percent" label={percentLabel} kind="number" />
				{#if method === 'derived'}<Field
						{form}
						name="amount"
						label="Amount up or down"
						kind="number"
					/>{/if}
				<Field
					{form}
					name="ending"
					label="Ending"
					kind="number"
					hint="0.95, or 9 for 19, 29 …; empty: none"
				/>
				{#if form.value.ending.trim()}<Field
						{form}
						name="rounding"
						label="Rounded"
						kind="choice"
						choices={ROUNDINGS}
					/>{/if}
			</div>
		{/if}
		<div class="row">
			<Field {form} name="starts_on" label="In force from" kind="day" />
			<Field {form} name="ends_on" label="until" kind="day" />
			{#if list && !list.base}<div class="ask" role="group" aria-label="Places that sell at it">
					Places that sell at it
					{#each list.places as place (place.id)}<label class="tick"
							><input
								type="checkbox"
								checked={(places ?? list.place_ids).includes(place.id)}
								onchange={() => (places = toggled(place.id))}
							/>
							{place.name}</label
						>{/each}
				</div>{/if}
			<div class="wide"><Field {form} name="note" label="Note" max={500} /></div>
		</div>
	</fieldset>
	<SaveLine {form} save={list ? 'Save price list' : 'Make the list'} mayAlways={isEdited} />
	{#if list && touchesPrices}<PriceRehearsal
			{list}
			subject={{ kind: 'list', body: asSent(form.typed) }}
		/>{/if}
</form>

<style>
	fieldset {
		display: grid;
		gap: 12px;
	}
	.row {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(180px, 1fr));
		gap: 10px 16px;
		align-items: start;
	}
	.wide {
		grid-column: span 2;
	}
	.tick {
		display: flex;
		gap: 7px;
		align-items: center;
		font-size: 14px;
		font-weight: 400;
		color: var(--ink);
		min-height: 24px;
	}
</style>

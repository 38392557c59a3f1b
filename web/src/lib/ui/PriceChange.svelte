<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { ROUNDINGS } from '#lib/prices.ts';
	import PriceRehearsal from './PriceRehearsal.svelte';

	/** Many prices changed by one rule, from a day to a day if need be; tried out before. */
	type Props = {
		list: Schemas['PriceListOut'];
		q: string;
		category: string;
		/** Items chosen on the sheet; none: all that match. */
		items: readonly number[];
		ondone: () => void;
	};
	let { list, q, category, items, ondone }: Props = $props();
	type Facts = {
		q: string;
		category: string;
		by: string;
		value: string;
		ending: string;
		rounding: string;
		starts_on: string;
		ends_on: string;
	};
	// svelte-ignore state_referenced_locally (what the sheet shows when the dialogue opens is where it begins)
	const start = items.length ? { q: '', category: '' } : { q, category };
	const form = new FormState<Facts>(() => ({
		...start,
		by: 'percent',
		value: '',
		ending: '',
		rounding: 'up',
		starts_on: '',
		ends_on: ''
	}));
	const choices = createQuery(() => ({
		queryKey: ['range choices'],
		queryFn: () => ask(api.GET('/api/v1/range/choices'))
	}));
	const BY = [
		{ value: 'percent', label: 'by per cent' },
		{ value: 'amount', label: 'by an amount' },
		{ value: 'margin', label: 'to a margin on cost' },
		{ value: 'markup', label: 'to a markup on cost' },
		{ value: 'ending', label: 'to an ending only' }
	];
	const number = (text: string): string => text.trim().replace(',', '.').replace('−', '-');
	const body = $derived<Schemas['PriceRuleIn']>({
		q: form.value.q,
		category: form.value.category,
		item_ids: [...items],
		by: form.value.by as 'percent',
		value: number(form.value.value) || '0',
		ending: number(form.value.ending) || null,
		rounding: form.value.rounding as 'up',
		starts_on: form.value.starts_on || null,
		ends_on: form.value.ends_on || null
	});
	const isSaid = $derived(form.value.by === 'ending' ? !!form.value.ending : !!form.value.value);

	async function apply(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const done = await form.send(() =>
			ask(
				api.POST('/api/v1/price-lists/{list_id}/changes', {
					params: { path: { list_id: list.id } },
					body
				})
			)
		);
		if (!done) return;
		notices.say(`${done.what}: ${count(done.items, 'item')} changed.`);
		ondone();
	}
</script>

<form onsubmit={apply} aria-label="Change prices">
	<div class="row">
		{#if items.length}<p class="chosen">{count(items.length, 'chosen item')}</p>{:else}
			<Field
				{form}
				name="category"
				label="Category"
				kind="choice"
				choices={[
					{ value: '', label: 'every category' },
					...(choices.data?.categories ?? []).map((name) => ({ value: name, label: name }))
				]}
			/>
			<Field {form} name="q" label="Name or SKU holds" max={120} hint="Empty: everything" />
		{/if}
		<Field {form} name="by" label="Changed" kind="choice" choices={BY} />
		{#if form.value.by !== 'ending'}<Field
				{form}
				name="value"
				label={form.value.by === 'amount' ? list.currency : 'Per cent'}
				kind="number"
				hint={['percent', 'amount'].includes(form.value.by)
					? 'With − to make it cheaper'
					: undefined}
			/>{/if}
		<Field {form} name="ending" label="Ending" kind="number" hint="0.95, or 9; empty: none" />
		{#if form.value.ending.trim()}<Field
				{form}
				name="rounding"
				label="Rounded"
				kind="choice"
				choices={ROUNDINGS}
			/>{/if}
		<Field {form} name="starts_on" label="From" kind="day" hint="Empty: at once" />
		<Field
			{form}
			name="ends_on"
			label="until"
			kind="day"
			hint="Then the price before comes back by itself"
		/>
	</div>
	<SaveLine {form} save="Change these prices" />
	{#if isSaid}<PriceRehearsal {list} subject={{ kind: 'rule', body }} />{/if}
</form>

<style>
	.chosen {
		font-weight: 600;
		padding-top: 22px;
	}
	.row {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(180px, 1fr));
		gap: 10px 16px;
		align-items: start;
	}
</style>

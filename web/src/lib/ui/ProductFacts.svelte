<script lang="ts" module>
	import type { Schemas } from '#lib/api/client.ts';

	/** What describes a product, as it is typed: tags with commas between. */
	export type Facts = {
		title: string;
		category: string;
		brand: string;
		tags: string;
		tax_class_id: string;
		description: string;
		note: string;
		country: string;
		shelf_life_days: string;
	};
	export const NOTHING: Facts = {
		title: '',
		category: '',
		brand: '',
		tags: '',
		tax_class_id: '',
		description: '',
		note: '',
		country: '',
		shelf_life_days: ''
	};
	/** As it is sent: only what was typed. */
	export function asSent(typed: Partial<Facts>): Partial<Schemas['ChangeProductIn']> {
		const { tags, tax_class_id, shelf_life_days, ...others } = typed;
		return {
			...others,
			...(tags === undefined ? {} : { tags: words(tags) }),
			...(shelf_life_days === undefined
				? {}
				: { shelf_life_days: Number(shelf_life_days.trim() || '0') }),
			...(tax_class_id ? { tax_class_id: Number(tax_class_id) } : {})
		};
	}
	export const words = (text: string): string[] =>
		text
			.split(',')
			.map((word) => word.trim())
			.filter(Boolean);
</script>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { countryName, figure } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import type { FormState } from '#lib/kit/FormState.svelte.ts';
	import RichText from '#lib/kit/RichText.svelte';

	type Props = { form: FormState<Facts>; isFixed?: boolean };
	let { form, isFixed = false }: Props = $props();
	const choices = createQuery(() => ({
		queryKey: ['range choices'],
		queryFn: () => ask(api.GET('/api/v1/range/choices'))
	}));
	/** Until one is chosen it is the company's first. */
	const taxes = $derived(
		(choices.data?.tax_classes ?? []).map((tax, n) => ({
			value: n === 0 && !form.value.tax_class_id ? '' : `${tax.id}`,
			label: `${tax.name}, ${figure(tax.percent, '0')} %`
		}))
	);
	const countries = $derived([
		{ value: '', label: 'not known' },
		...(choices.data?.countries ?? [])
			.map((code) => ({ value: code, label: countryName(code) }))
			.sort((a, b) => a.label.localeCompare(b.label))
	]);
</script>

<div class="facts">
	<div class="wide"><Field {form} name="title" label="Title" max={160} /></div>
	<Field
		{form}
		name="category"
		label="Category"
		max={60}
		hints={choices.data?.categories}
		hint="A new name makes a new category"
	/>
	<Field {form} name="brand" label="Brand" max={60} />
	<Field {form} name="tags" label="Tags" hint="With commas between" />
	<Field {form} name="tax_class_id" label="Tax class" kind="choice" choices={taxes} />
	<Field {form} name="country" label="Country of origin" kind="choice" choices={countries} />
	<Field
		{form}
		name="shelf_life_days"
		label="Keeps for, days"
		kind="number"
		hint="After it arrives; empty: for good"
	/>
	<div class="wide">
		<RichText {form} name="description" label="Description" {isFixed} />
	</div>
	<div class="wide">
		<Field
			{form}
			name="note"
			label="Note"
			kind="long"
			max={4000}
			hint="For people here; never sent to a channel"
		/>
	</div>
</div>

<style>
	.facts {
		display: grid;
		grid-template-columns: repeat(4, minmax(0, 1fr));
		gap: 10px 16px;
		align-items: start;
		max-width: 980px;
	}
	.wide {
		grid-column: span 2;
	}
	@media (max-width: 760px) {
		.facts {
			grid-template-columns: repeat(2, minmax(0, 1fr));
		}
	}
</style>

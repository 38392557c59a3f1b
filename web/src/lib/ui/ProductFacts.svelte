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
	};
	export const NOTHING: Facts = {
		title: '',
		category: '',
		brand: '',
		tags: '',
		tax_class_id: '',
		description: '',
		note: ''
	};
	/** As it is sent: only what was typed. */
	export function asSent(typed: Partial<Facts>): Partial<Schemas['ChangeProductIn']> {
		const { tags, tax_class_id, ...others } = typed;
		return {
			...others,
			...(tags === undefined ? {} : { tags: words(tags) }),
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
	import { figure } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import type { FormState } from '#lib/kit/FormState.svelte.ts';

	type Props = { form: FormState<Facts> };
	let { form }: Props = $props();
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
	<div class="wide">
		<Field {form} name="tags" label="Tags" hint="With commas between" />
	</div>
	<div class="wide">
		<Field {form} name="tax_class_id" label="Tax class" kind="choice" choices={taxes} />
	</div>
	<div class="wide">
		<Field {form} name="description" label="Description" kind="long" max={20000} />
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

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';

	/** One thing about many items: those that were chosen, or all that the filter finds. What would change is shown next. */
	type Props = { ids: number[]; found: Schemas['ItemsFound'] };
	let { ids, found }: Props = $props();
	const kinds = createQuery(() => ({
		queryKey: ['import kinds'],
		queryFn: () => ask(api.GET('/api/v1/imports/kinds'))
	}));
	const columns = $derived(
		kinds.data?.find((one) => one.name === 'items')?.columns.filter((one) => one.many) ?? []
	);
	const form = new FormState<{ column: string; text: string }>(() => ({
		column: 'category',
		text: ''
	}));
	const chosen = $derived(columns.find((one) => one.name === form.value.column));
	const said = (name: string): string =>
		`${name.charAt(0).toUpperCase()}${name.slice(1).replaceAll('_', ' ')}`;

	async function send(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const made = await form.send(() =>
			ask(api.POST('/api/v1/range/items/many', { body: { ids, found, ...form.value } }))
		);
		if (made) await goto(`/range/sheets?kind=items&file=${made.id}`);
	}
</script>

<form onsubmit={send} aria-label="Change many">
	<p class="soft">
		{ids.length
			? `${count(ids.length, 'item')} chosen.`
			: 'All items that the filter finds, as none is chosen.'} Nothing is changed before you have seen
		from what to what.
	</p>
	<Field
		{form}
		name="column"
		label="What"
		kind="choice"
		choices={columns.map((one) => ({ value: one.name, label: said(one.name) }))}
	/>
	<Field
		{form}
		name="text"
		label="Becomes"
		max={4000}
		hint={[chosen?.words, chosen && `for instance ${chosen.example}`].filter(Boolean).join('; ')}
	/>
	<p class="soft small">Left empty, it is cleared, where it may be empty.</p>
	<SaveLine {form} save="Show what would change" mayAlways />
</form>

<style>
	form {
		display: grid;
		gap: 12px;
		min-width: 380px;
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { session } from '#lib/session.svelte.ts';

	/** One thing about many items: those that were chosen, or all that the filter finds. What would change is shown next. */
	type Props = { ids: number[]; found: Schemas['ItemsFound'] };
	let { ids, found }: Props = $props();
	const kinds = createQuery(() => ({
		queryKey: ['import kinds'],
		queryFn: () => ask(api.GET('/api/v1/imports/kinds'))
	}));
	/** The sheets that know something of items which many may be given. */
	const sheets = $derived(
		(kinds.data ?? []).filter(
			(one) =>
				one.columns[0]?.name === 'sku' &&
				one.columns.some((column) => column.many) &&
				session.may(one.ability)
		)
	);
	type Typed = { kind: string; column: string; beside: string; text: string };
	const form: FormState<Typed> = new FormState<Typed>(() => ({
		kind: 'items',
		column: columns[0]?.name ?? '',
		beside: '',
		text: ''
	}));
	const sheet = $derived(sheets.find((one) => one.name === (form.typed.kind ?? 'items')));
	const columns = $derived(sheet?.columns.filter((one) => one.many) ?? []);
	const chosen = $derived(columns.find((one) => one.name === form.value.column) ?? columns[0]);
	/** What a rule may be for: one place, or one connection. */
	const beside = $derived(sheet?.columns.find((one) => one.tells)?.name ?? '');
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations')),
		enabled: beside === 'place'
	}));
	const connections = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections')),
		enabled: beside === 'connection'
	}));
	const names = $derived(
		beside === 'place'
			? (places.data ?? []).map((one) => one.name)
			: beside === 'connection'
				? (connections.data ?? []).filter((one) => one.listings > 0).map((one) => one.name)
				: []
	);
	// What was chosen of another sheet is none of this one's.
	$effect(() => {
		const column = form.typed.column;
		if (column && columns.length && !columns.some((one) => one.name === column))
			form.set({ column: columns[0]?.name ?? '', beside: '' });
	});
	const LABELS: Record<string, string> = { place: 'At', connection: 'On' };
	const ALL: Record<string, string> = {
		place: 'every place that has no value of its own',
		connection: 'every channel that has no value of its own'
	};
	/** Rules are called as they are in forms, with the unit; columns of the range by their names. */
	const said = (one: { name: string; words: string }): string =>
		beside
			? (one.words.split(':')[0] ?? one.name)
			: `${one.name.charAt(0).toUpperCase()}${one.name.slice(1).replaceAll('_', ' ')}`;

	/** What is said of it beside its name. */
	const rest = (words: string): string =>
		(beside ? words.slice(words.indexOf(':') + 1).trim() : words).replace(/\.$/, '');

	async function send(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const made = await form.send(() =>
			ask(
				api.POST('/api/v1/range/items/many', {
					body: {
						ids,
						found,
						...form.value,
						column: chosen?.name ?? '',
						beside: names.includes(form.value.beside) ? form.value.beside : ''
					}
				})
			)
		);
		if (made) await goto(`/range/sheets?kind=${made.kind}&file=${made.id}`);
	}
</script>

<form onsubmit={send} aria-label="Change many">
	<p class="soft">
		{ids.length
			? `${count(ids.length, 'item')} chosen.`
			: 'All items that the filter finds, as none is chosen.'} Nothing is changed before you have seen
		from what to what.
	</p>
	{#if sheets.length > 1}<Field
			{form}
			name="kind"
			label="Of"
			kind="choice"
			choices={sheets.map((one) => ({ value: one.name, label: one.title }))}
		/>{/if}
	<Field
		{form}
		name="column"
		label="What"
		kind="choice"
		choices={columns.map((one) => ({ value: one.name, label: said(one) }))}
	/>
	{#if beside}<Field
			{form}
			name="beside"
			label={LABELS[beside] ?? beside}
			kind="choice"
			choices={[
				{ value: '', label: ALL[beside] ?? 'everywhere' },
				...names.map((name) => ({ value: name, label: name }))
			]}
		/>{/if}
	<Field
		{form}
		name="text"
		label="Becomes"
		max={4000}
		hint={chosen
			? [rest(chosen.words), `for instance ${chosen.example}`].filter(Boolean).join('; ')
			: ''}
	/>
	<p class="soft small">
		{beside
			? 'Left empty, it is inherited again.'
			: 'Left empty, it is cleared, where it may be empty.'}
	</p>
	<SaveLine {form} save="Show what would change" mayAlways />
</form>

<style>
	form {
		display: grid;
		gap: 12px;
		min-width: 380px;
	}
</style>

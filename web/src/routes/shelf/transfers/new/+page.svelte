<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask, onceKey } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { SHELF_TABS } from '#lib/tabs.ts';
	import Sheet from '#lib/ui/Sheet.svelte';

	/** Where from and where to; the items are put on the draft. */
	const asked = page.url.searchParams;
	const item = Number(asked.get('item') ?? 0);
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const choices = $derived(
		(places.data ?? []).map((place) => ({ value: `${place.id}`, label: place.name }))
	);
	const tomorrow = new Date(Date.now() + 86_400_000).toISOString().slice(0, 10);
	const form = new FormState(() => {
		const from = asked.get('from') ?? choices[0]?.value ?? '';
		return {
			source_id: from,
			destination_id: choices.find((one) => one.value !== from)?.value ?? '',
			expected_on: tomorrow,
			note: '',
			quantity: '1'
		};
	}).guard();
	// The same draft sent twice is made once; one that was changed is another.
	const key = $derived(form.typed && onceKey());
	const wanted = createQuery(() => ({
		queryKey: ['item', item],
		queryFn: () => ask(api.GET('/api/v1/items/{item_id}', { params: { path: { item_id: item } } })),
		enabled: item > 0
	}));

	async function make(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const typed = form.value;
		const made = await form.send(() =>
			ask(
				api.POST('/api/v1/transfers', {
					headers: { 'Idempotency-Key': key },
					body: {
						source_id: Number(typed.source_id),
						destination_id: Number(typed.destination_id),
						expected_on: typed.expected_on,
						note: typed.note,
						lines: item
							? [{ item_id: item, quantity: typed.quantity.trim().replace(',', '.') || '0' }]
							: []
					}
				})
			)
		);
		if (made) await goto(`/shelf/transfers/${made.id}`);
	}
</script>

<Sheet question="What goes where?" tabs={SHELF_TABS}>
	{#snippet lead()}A draft moves nothing. It is sent when the goods leave.{/snippet}
	<form class="form" onsubmit={make}>
		<Field {form} name="source_id" label="From" kind="choice" {choices} />
		<Field {form} name="destination_id" label="To" kind="choice" {choices} />
		<Field {form} name="expected_on" label="Expected there" kind="day" />
		{#if item}<Field
				{form}
				name="quantity"
				label="Units of {wanted.data?.title ?? 'the item'}"
				kind="number"
			/>{/if}
		<Field {form} name="note" label="Note" max={200} />
		<SaveLine {form} save="Make the draft" mayAlways />
	</form>
</Sheet>

<style>
	.form {
		display: grid;
		gap: 12px;
		max-width: 380px;
		padding: 16px 20px;
	}
</style>

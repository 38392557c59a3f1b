<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { day } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';

	/** What other currencies are worth, for what is bought and what is sold in them. */
	const rates = createQuery(() => ({
		queryKey: ['rates'],
		queryFn: () => ask(api.GET('/api/v1/exchange-rates'))
	}));
	const may = $derived(session.may('keep the books') || session.may('buy'));
	const form = new FormState(() => ({ currency: '', rate: '', day: '' })).guard();

	async function keep(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const { currency, rate, day } = form.value;
		const done = await form.send(() =>
			ask(
				api.POST('/api/v1/exchange-rates', {
					body: { currency, rate: rate.trim().replace(',', '.') || '0', day: day || null }
				})
			)
		);
		if (done) notices.say(done.said);
	}
</script>

<section>
	<h2>Exchange rates</h2>
	<p class="soft">
		For what is bought and sold in another currency. What was posted stays at the rate of its day.
	</p>
	<div class="beside">
		{#if rates.data?.length}
			<table class="rows" aria-label="Exchange rates">
				<thead
					><tr><th>Currency</th><th class="num">For one {session.currency}</th><th>Since</th></tr
					></thead
				>
				<tbody>
					{#each rates.data as row (row.currency)}<tr data-row
							><td>{row.currency}</td><td class="num">{Number(row.rate)}</td><td class="soft"
								>{day(row.day)}</td
							></tr
						>{/each}
				</tbody>
			</table>
		{:else}<p class="soft">No rate yet.</p>{/if}
		{#if may}
			<form onsubmit={keep} aria-label="Exchange rate">
				<Field {form} name="currency" label="Currency" max={3} />
				<Field {form} name="rate" label="For one {session.currency}" kind="number" />
				<Field {form} name="day" label="From, empty: today" kind="day" />
				<SaveLine {form} save="Set the rate" />
			</form>
		{/if}
	</div>
</section>

<style>
	.beside {
		display: grid;
		gap: 18px;
		margin-top: 8px;
	}
	table {
		width: 100%;
	}
	table th {
		background: none;
	}
	table :is(th, td):first-child {
		padding-left: 0;
	}
	table :is(th, td):last-child {
		padding-right: 0;
	}
	form {
		display: grid;
		gap: 10px;
	}
</style>

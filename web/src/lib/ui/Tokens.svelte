<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { changed } from '#lib/changes.ts';
	import { ago, day, moment } from '#lib/format.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import Ticks from '#lib/kit/Ticks.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Pending from '#lib/ui/Pending.svelte';

	type Ability = Schemas['Me']['may'][number];
	/** Tokens for programs: what each may do, until when. */
	const form = new FormState(() => ({ name: '', days: '90', abilities: [] as Ability[] }));
	let isNew = $state(false);
	let token = $state('');
	const found = createQuery(() => ({
		queryKey: ['tokens'],
		queryFn: () => ask(api.GET('/api/v1/account/tokens'))
	}));
	const may = $derived(
		(session.me?.may ?? [])
			.filter((ability) => ability !== 'read')
			.map((ability) => ({ value: ability, label: ability }))
	);
	async function give(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const body = { ...form.value, days: Number(form.value.days) || 0 };
		const done = await form.send(() => ask(api.POST('/api/v1/account/tokens', { body })));
		if (!done) return;
		token = done.token;
		isNew = false;
		await found.refetch();
	}
	async function revoke(token_id: number): Promise<void> {
		try {
			await ask(
				api.DELETE('/api/v1/account/tokens/{token_id}', { params: { path: { token_id } } })
			);
			notices.say('That token was revoked.');
		} catch (error) {
			notices.fail(error);
		}
		await Promise.all([changed(), found.refetch()]);
	}
</script>

<section aria-label="Tokens">
	<h2>
		Tokens for programs
		{#if !isNew}<button class="quiet" onclick={() => ((isNew = true), (token = ''))}
				>New token</button
			>{/if}
	</h2>
	{#if token}<p class="given" role="status">
			Copy it now; it is not shown again: <code>{token}</code>
		</p>{/if}
	{#if isNew}
		<form onsubmit={give} aria-label="New token">
			<div class="line">
				<Field {form} name="name" label="What it is for" max={80} />
				<Field {form} name="days" label="Good for days" kind="number" max={3} />
			</div>
			<div class="abilities">
				<Ticks {form} name="abilities" label="What it may do, beside reading" choices={may} />
			</div>
			<div class="line">
				<SaveLine {form} save="Give it out" />
				<button type="button" class="quiet" onclick={() => (isNew = false)}>Close</button>
			</div>
		</form>
	{/if}
	{#if found.data?.length}
		<table class="rows">
			<thead
				><tr
					><th>For</th><th>May</th><th>Last used</th><th>Good until</th><th
						><span class="sr-only">Revoke</span></th
					></tr
				></thead
			>
			<tbody>
				{#each found.data as row (row.id)}
					<tr data-row>
						<td>{row.name}</td>
						<td>{row.abilities ? row.abilities.join(', ') : 'all that you may'}</td>
						<td title={row.last_used_at ? moment(row.last_used_at) : ''}
							>{row.last_used_at ? ago(row.last_used_at) : 'never'}</td
						>
						<td>{row.expires_at ? day(row.expires_at) : 'it is revoked'}</td>
						<td><button class="quiet" onclick={() => revoke(row.id)}>Revoke</button></td>
					</tr>
				{/each}
			</tbody>
		</table>
	{:else if found.data}<p class="soft none">
			No program acts in your name. A token lets one read, and do what you tick for it, until a day
			you choose.
		</p>
	{:else}<Pending query={found} />{/if}
</section>

<style>
	form {
		display: grid;
		gap: 12px;
		padding: 8px 20px 16px;
	}
	.line {
		display: flex;
		gap: 12px;
		align-items: end;
		flex-wrap: wrap;
	}
	.abilities :global([role='group']) {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
		gap: 2px 14px;
	}
	.given {
		margin: 4px 20px 10px;
		padding: 8px 12px;
		border-left: 3px solid var(--reed);
		overflow-wrap: anywhere;
	}
	.none {
		padding: 0 20px 14px;
	}
	.rows {
		width: 100%;
	}
</style>

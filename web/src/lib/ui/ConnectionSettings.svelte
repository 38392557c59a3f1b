<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import Ticks from '#lib/kit/Ticks.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import AccountMapping from './AccountMapping.svelte';
	import Overtaken from './Overtaken.svelte';
	import Rehearsal from './Rehearsal.svelte';
	import SignInFields from './SignInFields.svelte';

	/** Which account it is, and what of ours it works with; the rules stand below it. */
	type Props = { data: Schemas['ConnectionOut']; mayChange: boolean };
	let { data, mayChange }: Props = $props();
	const form = new FormState(
		() => ({
			...data,
			fulfils_from: `${data.fulfils_from ?? ''}`,
			their_place: `${data.their_place ?? 0}`,
			entered: {} as Record<string, string>
		}),
		() => data.version
	);
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const choices = $derived(
		(places.data ?? []).map((place) => ({ value: `${place.id}`, label: place.name }))
	);
	const has = (what: string): boolean => data.can.includes(what);

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const { entered, fulfils_from, their_place, ...others } = form.typed;
		const body = {
			...others,
			version: form.version,
			...(entered ? { sign_in: entered } : {}),
			...(fulfils_from ? { fulfils_from: Number(fulfils_from) } : {}),
			...(their_place ? { their_place: Number(their_place) } : {})
		} as Schemas['SettingsIn'];
		const path = { connection_id: data.id };
		const kept = await form.send(() =>
			ask(api.PATCH('/api/v1/connections/{connection_id}', { params: { path }, body }))
		);
		if (kept) notices.say('Saved. Offers are being worked out anew.');
	}
</script>

<form onsubmit={save} aria-label="Settings">
	{#if form.isOvertaken}<Overtaken
			onkeep={() => form.typing.keep()}
			ontake={() => form.drop()}
		/>{/if}
	<fieldset disabled={!mayChange || form.busy}>
		<div class="block">
			<h2>The account</h2>
			<Field {form} name="name" label="Name" max={80} />
			{#if data.state === 'live'}<p class="soft small">
					{data.address}: pause it to change the address.
				</p>{:else}<Field {form} name="address" label="Address" max={300} />{/if}
			<SignInFields
				entries={data.sign_in}
				kept={data.account}
				given={form.value.entered}
				wrong={form.refusal?.field}
				onchange={(entered) => form.set({ entered })}
			/>
		</div>
		{#if has('orders')}
			<div class="block">
				<h2>Orders</h2>
				<Field {form} name="fulfils_from" label="Shipped from" kind="choice" {choices} />
				{#if has('feeds')}<Field
						{form}
						name="their_place"
						label="Stands for the channel’s own store"
						kind="choice"
						choices={[{ value: '0', label: 'none: it sends nothing itself' }, ...choices]}
						hint="What the channel sends itself leaves this place, never another."
					/>{/if}
			</div>
		{/if}
		{#if has('quantities')}
			<div class="block">
				<h2>Places</h2>
				<Ticks
					{form}
					name="feeds"
					label="Stock from"
					choices={(places.data ?? []).map((place) => ({ value: place.id, label: place.name }))}
				/>
			</div>
		{/if}
		{#if has('documents')}<AccountMapping {form} accounts={data.test_report.accounts ?? []} />{/if}
	</fieldset>
	{#if mayChange}<div class="foot"><SaveLine {form} save="Save settings" /></div>{/if}
	{#if mayChange && has('quantities') && form.typed.feeds}
		<Rehearsal
			way="connection"
			id={data.id}
			version={data.version}
			rules={{ level: 'connection', feeds: form.typed.feeds }}
		/>
	{/if}
</form>

<style>
	fieldset {
		display: grid;
		grid-template-columns: repeat(auto-fit, minmax(250px, 1fr));
		gap: 24px;
		padding: 0 20px;
	}
	.block {
		display: grid;
		gap: 10px;
		align-content: start;
	}
	.foot {
		padding: 0 20px;
	}
</style>

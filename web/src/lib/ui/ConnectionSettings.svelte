<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { Typing } from '#lib/typing.svelte.ts';
	import Overtaken from './Overtaken.svelte';
	import Rehearsal from './Rehearsal.svelte';

	/** A connection's rules; saving works out every linked offer anew. */
	type Props = { data: Schemas['ConnectionOut']; mayChange: boolean };
	let { data, mayChange }: Props = $props();
	const client = useQueryClient();
	type Settings = Omit<Schemas['SettingsIn'], 'version'>;
	let typed = $state<Settings>({});
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
	const typing = new Typing(() => data.version);
	const places = createQuery(() => ({
		queryKey: ['locations'],
		queryFn: () => ask(api.GET('/api/v1/locations'))
	}));
	const now = $derived({ ...data, ...typed } as Schemas['ConnectionOut']);
	const isEdited = $derived(Object.keys(typed).length > 0);
	const has = (what: string): boolean => data.can.includes(what);
	const roleNames = $derived(
		Object.keys(data.accounts).sort((a, b) =>
			(data.accounts[a] ?? '').localeCompare(data.accounts[b] ?? '')
		)
	);

	const isOvertaken = $derived(isEdited && typing.isOvertaken);
	function drop(): void {
		typed = {};
		typing.end();
	}

	function set(change: Settings): void {
		typing.begin();
		typed = { ...typed, ...change };
	}

	const toggled = <T,>(list: T[], value: T): T[] =>
		list.includes(value) ? list.filter((x) => x !== value) : [...list, value];

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		try {
			await ask(
				api.PATCH('/api/v1/connections/{connection_id}', {
					params: { path: { connection_id: data.id } },
					body: { ...typed, version: typing.version }
				})
			);
			drop();
			notices.say('Saved. Offers are being worked out anew.');
		} catch (error) {
			refusal = error as Problem;
		}
		busy = false;
		await client.invalidateQueries();
	}
</script>

<form onsubmit={save} aria-label="Settings">
	{#if isOvertaken}<Overtaken onkeep={() => typing.keep()} ontake={drop} />{/if}
	<fieldset disabled={!mayChange || busy}>
		{#if has('orders')}
			<div class="block">
				<h2>Orders</h2>
				<label class="ask"
					>Shipped from
					<select
						class="field"
						value={`${now.fulfils_from ?? ''}`}
						onchange={(e) => set({ fulfils_from: Number(e.currentTarget.value) })}
					>
						{#each places.data ?? [] as place (place.id)}<option value={`${place.id}`}
								>{place.name}</option
							>{/each}
					</select></label
				>
				<label class="ask"
					>Order number prefix
					<input
						class="field"
						maxlength="12"
						value={now.prefix}
						oninput={(e) => set({ prefix: e.currentTarget.value })}
					/></label
				>
				<div class="ask" role="group" aria-label="Order states imported">
					Order states imported
					{#each data.known_order_states as state (state)}
						<label class="tick"
							><input
								type="checkbox"
								checked={now.order_states.includes(state)}
								onchange={() => set({ order_states: toggled(now.order_states, state) })}
							/>
							{state.replace('_', ' ')}</label
						>
					{/each}
				</div>
				<label class="tick"
					><input
						type="checkbox"
						checked={now.backorders}
						onchange={() => set({ backorders: !now.backorders })}
					/> Accept backorders; otherwise orders that are short are held</label
				>
				<label class="ask"
					>Cash-sale customer in the ledger
					<input
						class="field"
						maxlength="120"
						value={now.cash_customer}
						oninput={(e) => set({ cash_customer: e.currentTarget.value })}
					/></label
				>
			</div>
		{/if}
		{#if has('quantities')}
			<div class="block">
				<h2>Places</h2>
				<div class="ask" role="group" aria-label="Stock from">
					Stock from
					{#each places.data ?? [] as place (place.id)}
						<label class="tick"
							><input
								type="checkbox"
								checked={now.feeds.includes(place.id)}
								onchange={() => set({ feeds: toggled(now.feeds, place.id) })}
							/>
							{place.name}</label
						>
					{/each}
				</div>
			</div>
		{/if}
		{#if has('documents')}
			<div class="block">
				<h2>Account mapping</h2>
				<div class="accounts">
					{#each roleNames as role (role)}
						<label class="ask"
							>{role.replaceAll('_', ' ')}
							<select
								class="field"
								value={now.accounts[role]}
								onchange={(e) =>
									set({ accounts: { ...now.accounts, [role]: e.currentTarget.value } })}
							>
								{#each data.test_report.accounts?.length ? data.test_report.accounts : [[now.accounts[role] ?? '', 'run the test to see names']] as account (account[0])}
									<option value={account[0]}>{account[0]} {account[1]}</option>
								{/each}
							</select></label
						>
					{/each}
				</div>
			</div>
		{/if}
		<div class="block">
			<h2>The account</h2>
			<label class="ask"
				>Name
				<input
					class="field"
					maxlength="80"
					aria-invalid={refusal?.field === 'name'}
					value={now.name}
					oninput={(e) => set({ name: e.currentTarget.value })}
				/></label
			>
			<label class="ask"
				>Address{data.state === 'live' ? ' (pause it to change this)' : ''}
				<input
					class="field"
					maxlength="300"
					disabled={data.state === 'live'}
					aria-invalid={refusal?.field === 'address'}
					value={now.address}
					oninput={(e) => set({ address: e.currentTarget.value })}
				/></label
			>
			<label class="ask"
				>New token
				<input
					class="field"
					type="password"
					autocomplete="off"
					placeholder="unchanged; type to replace"
					value={typed.token ?? ''}
					oninput={(e) => set({ token: e.currentTarget.value || null })}
				/></label
			>
			{#if has('orders')}
				<label class="ask"
					>Channel fee, %
					<input
						class="field"
						inputmode="decimal"
						value={now.fee_percent}
						oninput={(e) => set({ fee_percent: e.currentTarget.value })}
					/></label
				>
				<label class="ask"
					>Channel fee per order
					<input
						class="field"
						inputmode="decimal"
						value={now.fee_fixed}
						oninput={(e) => set({ fee_fixed: e.currentTarget.value })}
					/></label
				>
			{/if}
		</div>
	</fieldset>
	{#if mayChange && has('quantities') && typed.feeds}
		<Rehearsal
			way="connection"
			id={data.id}
			version={data.version}
			rules={{ level: 'connection', feeds: typed.feeds }}
		/>
	{/if}
	{#if mayChange}
		<div class="save">
			<button class="do" disabled={!isEdited || isOvertaken || busy}>Save settings</button>
			{#if isEdited}<button type="button" class="quiet" onclick={drop}>Undo</button>{/if}
			<span class="bad" role="alert">{refusal?.message ?? ''}</span>
		</div>
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
	.block:has(.accounts) {
		grid-column: span 2;
	}
	.accounts {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(210px, 1fr));
		gap: 8px 14px;
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
	.save {
		padding: 14px 20px 0;
		display: flex;
		gap: 10px;
		align-items: center;
	}
	.bad {
		color: var(--madder);
	}
</style>

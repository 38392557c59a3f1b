<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { Typing } from '#lib/typing.svelte.ts';
	import Overtaken from './Overtaken.svelte';

	/** How an item is replenished at a place; what a change would suggest stands beside it before it is saved. */
	type Props = { data: Schemas['ForecastOut'] };
	type Change = Partial<Schemas['PolicyChange']>;
	let { data }: Props = $props();
	const client = useQueryClient();
	let typed = $state<Change>({});
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
	const typing = new Typing(() => data.policy.version);
	const may = $derived(session.may('buy'));
	const now = $derived({ ...data.policy, ...typed });
	const isEdited = $derived(Object.keys(typed).length > 0);
	const isOvertaken = $derived(isEdited && typing.isOvertaken);
	const path = $derived({ path: { item_id: data.item_id, location_id: data.location_id } });
	const percent = $derived.by(() => {
		const level = Number(now.safety_figure);
		return Number.isNaN(level) ? now.safety_figure : String(Number((level * 100).toFixed(1)));
	});
	const resting = new Resting<Change>(() => typed);
	const rehearsal = createQuery(() => ({
		queryKey: ['rehearsal', data.item_id, data.location_id, data.policy.version, resting.value],
		queryFn: () =>
			ask(
				api.POST('/api/v1/policies/{item_id}/{location_id}/rehearsal', {
					params: path,
					body: resting.value as Schemas['PolicyChange']
				})
			),
		enabled: may && Object.keys(resting.value).length > 0,
		placeholderData: (before) => before,
		retry: false
	}));
	const moved = $derived(isEdited && !rehearsal.isError ? rehearsal.data : undefined);
	const wrong = $derived(
		refusal ?? (isEdited && rehearsal.isError ? (rehearsal.error as Problem) : null)
	);
	const WHOSE = {
		place: 'Set for this location.',
		item: 'Set for this item at all locations.',
		default: 'The default policy applies.'
	};

	function set(change: Change): void {
		typing.begin();
		refusal = null;
		typed = { ...typed, ...change };
	}

	function drop(): void {
		typed = {};
		refusal = null;
		typing.end();
	}

	// What is no number goes as it was typed: the server refuses it by name, and it stays in the field.
	const days = (text: string): number =>
		/^\s*\d+\s*$/.test(text) ? Number(text) : (text as unknown as number);
	const share = (text: string): string => {
		const given = Number(text.trim().replace(',', '.') || 'none');
		return Number.isNaN(given) ? text : (given / 100).toFixed(3);
	};

	function choose(safety: string): void {
		const usual = { service: '0.95', days: '7', units: '0' }[safety];
		set({ safety: safety as 'service', safety_figure: usual ?? '0' });
	}

	async function act(said: string, work: () => Promise<unknown>): Promise<void> {
		busy = true;
		refusal = null;
		try {
			await work();
			drop();
			notices.say(said);
		} catch (error) {
			refusal = error as Problem;
		}
		busy = false;
		await client.invalidateQueries();
	}

	const save = (event: SubmitEvent): Promise<void> => {
		event.preventDefault();
		return act('Saved. The suggestion follows.', () =>
			ask(
				api.PATCH('/api/v1/policies/{item_id}/{location_id}', {
					params: path,
					body: { ...typed, version: typing.version } as Schemas['PolicyIn']
				})
			)
		);
	};
	const giveUp = (): Promise<void> =>
		act('The default policy applies again.', () =>
			ask(api.DELETE('/api/v1/policies/{item_id}/{location_id}', { params: path }))
		);
</script>

<form onsubmit={save} aria-label="Policy">
	{#if isOvertaken}<Overtaken onkeep={() => typing.keep()} ontake={drop} />{/if}
	<fieldset disabled={!may || busy}>
		<label class="ask"
			>Forecast method
			<select
				class="field"
				value={now.forecast}
				onchange={(event) => set({ forecast: event.currentTarget.value })}
			>
				<option value="auto">automatic</option>
				{#each data.methods as one (one.name)}<option value={one.name}
						>{one.name}: {one.words}</option
					>{/each}
			</select></label
		>
		<label class="ask"
			>Reorder
			<select
				class="field"
				value={now.method}
				onchange={(event) => set({ method: event.currentTarget.value as 'cover' })}
			>
				<option value="cover">to cover lead time and cover days</option>
				<option value="min_max">minimum and maximum</option>
			</select></label
		>
		<div class="pair">
			<label class="ask"
				>Lead time, days
				<input
					class="field"
					inputmode="numeric"
					placeholder="{data.policy.lead} from the supplier"
					value={now.lead_days ?? ''}
					oninput={(event) =>
						set({
							lead_days:
								event.currentTarget.value.trim() === '' ? null : days(event.currentTarget.value)
						})}
				/></label
			>
			<label class="ask"
				>Cover, days
				<input
					class="field"
					inputmode="numeric"
					value={now.cover_days}
					oninput={(event) => set({ cover_days: days(event.currentTarget.value) })}
				/></label
			>
		</div>
		{#if now.method === 'min_max'}
			<div class="pair">
				<label class="ask"
					>Minimum
					<input
						class="field"
						inputmode="decimal"
						value={now.reorder_point}
						oninput={(event) => set({ reorder_point: event.currentTarget.value || '0' })}
					/></label
				>
				<label class="ask"
					>Maximum
					<input
						class="field"
						inputmode="decimal"
						value={now.order_up_to}
						oninput={(event) => set({ order_up_to: event.currentTarget.value || '0' })}
					/></label
				>
			</div>
		{:else}
			<div class="pair">
				<label class="ask"
					>Safety stock
					<select
						class="field"
						value={now.safety}
						onchange={(event) => choose(event.currentTarget.value)}
					>
						<option value="service">by service level</option>
						<option value="days">days of sales</option>
						<option value="units">fixed units</option>
					</select></label
				>
				{#if now.safety === 'service'}
					<label class="ask"
						>Service level, %
						<input
							class="field"
							inputmode="decimal"
							value={percent}
							onchange={(event) =>
								set({
									safety_figure: share(event.currentTarget.value)
								})}
						/></label
					>
				{:else}
					<label class="ask"
						>{now.safety === 'days' ? 'Days of sales' : 'Units'}
						<input
							class="field"
							inputmode="decimal"
							value={now.safety_figure}
							oninput={(event) => set({ safety_figure: event.currentTarget.value || '0' })}
						/></label
					>
				{/if}
			</div>
		{/if}
	</fieldset>
	{#if wrong}<p class="refusal" role="alert">{wrong.message}</p>{/if}
	{#if moved}
		<table class="moved" aria-label="Rehearsal">
			<thead><tr><th>It would be</th><th class="num">now</th><th class="num">then</th></tr></thead>
			<tbody>
				<tr
					><td>Demand over lead time and cover</td><td class="num"
						>{figure(moved.now.demand)} <span class="soft small">{moved.now.days} d</span></td
					><td class="num"
						>{figure(moved.then.demand)} <span class="soft small">{moved.then.days} d</span></td
					></tr
				>
				<tr
					><td>Safety stock</td><td class="num">{figure(moved.now.safety_stock)}</td><td class="num"
						>{figure(moved.then.safety_stock)}</td
					></tr
				>
				<tr
					><td>Reorder point</td><td class="num">{figure(moved.now.reorder_point)}</td><td
						class="num">{figure(moved.then.reorder_point)}</td
					></tr
				>
				<tr class="sum"
					><td>Order</td><td class="num">{figure(moved.now.quantity)}</td><td class="num"
						>{figure(moved.then.quantity)}</td
					></tr
				>
			</tbody>
		</table>
		{#if typed.forecast !== undefined}<p class="soft small">
				A change of method takes effect when it is saved: the forecast is then calculated again.
			</p>{/if}
	{/if}
	<p class="foot">
		<button class="do" disabled={!may || !isEdited || isOvertaken || busy}>Save policy</button>
		{#if isEdited}<button type="button" class="quiet" onclick={drop}>Undo</button>
		{:else if may && data.policy.scope === 'place'}<button
				type="button"
				class="quiet"
				disabled={busy}
				onclick={giveUp}>Use the default policy</button
			>{/if}
		<span class="soft small">{WHOSE[data.policy.scope as 'place']}</span>
	</p>
</form>

<style>
	fieldset {
		display: grid;
		gap: 10px;
	}
	.ask > .field {
		width: 100%;
	}
	.moved {
		width: 100%;
		margin-top: 12px;
		border-collapse: collapse;
		background: var(--reed-tint);
	}
	.moved :is(th, td) {
		padding: 3px 10px;
		font-size: 13px;
	}
	.moved th {
		font-weight: 600;
		font-size: 12px;
		text-align: left;
		color: var(--ink-soft);
	}
	.moved th.num {
		text-align: right;
	}
	.moved .sum td {
		border-top: 1px solid var(--ink);
		font-weight: 600;
	}
	.foot {
		display: flex;
		flex-wrap: wrap;
		gap: 8px 10px;
		align-items: center;
		margin-top: 12px;
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { drawer } from '#lib/drawer.svelte.ts';
	import { figure } from '#lib/format.ts';
	import Pending from './Pending.svelte';
	import History from './History.svelte';
	import WayOut from './WayOut.svelte';

	const working = createQuery(() => ({
		queryKey: ['working', drawer.kind, drawer.key],
		queryFn: () =>
			ask(
				api.GET('/api/v1/workings/{kind}/{key}', {
					params: { path: { kind: drawer.kind, key: drawer.key } }
				})
			),
		enabled: drawer.isOpen,
		placeholderData: (before) => before,
		retry: false
	}));
	const data = $derived(working.data);
	type Step = Schemas['StepOut'];
	const isBelow = (step: Step): boolean => Boolean(step.op && step.value?.startsWith('-'));
	// Adding what is below zero is taking it away; what is below zero and taken away stands in brackets, as on paper.
	const sign = (step: Step): string =>
		step.op === '-' || (step.op === '+' && isBelow(step)) ? '−' : step.op;
	const term = (step: Step): string => {
		if (!step.value) return '';
		const text = figure(step.value, '0');
		if (!isBelow(step)) return text;
		return step.op === '+' ? text.slice(1) : `(${text})`;
	};
	const PLANNED = ['suggestion', 'velocity', 'demand', 'month'];
</script>

<aside class="drawer" aria-label="Working">
	{#if !data || working.isError}
		<Pending query={working} />
	{:else}
		<h2>{data.title}</h2>
		<p class="soft subject">{data.subtitle}</p>
		<table>
			<tbody>
				{#each data.steps as step, n (n)}
					<tr class={step.kind}>
						<td>
							{#if step.link}<a href={step.link}>{step.label}</a>{:else}{step.label}{/if}
							{#if step.note}<span class="soft note">{step.note}</span>{/if}
						</td>
						<td class="num">
							<span class="op">{sign(step)}</span>
							<span class="value" class:double={step.kind === 'result'}>{term(step)}</span>
							{#if step.unit}<span class="soft small">{step.unit}</span>{/if}
						</td>
					</tr>
				{/each}
			</tbody>
		</table>
		{#if PLANNED.includes(drawer.kind)}<History id={drawer.key} />{/if}
		{#if data.note}<p class="say">{data.note}</p>{/if}
		{#if PLANNED.includes(drawer.kind)}
			<p class="say">
				<a href="/buying/forecasts/{drawer.key.replace('-', '/')}">Forecast and policy</a>
			</p>
		{/if}
		{#if drawer.kind === 'drift'}<WayOut id={drawer.key} />{/if}
	{/if}
	<p class="keys soft">
		<span class="key">↓</span> walks the column, <span class="key">w</span> closes
		<button class="quiet close" onclick={() => drawer.close()}>Close</button>
	</p>
</aside>

<style>
	.drawer {
		width: 324px;
		flex: none;
		border-left: 1px solid var(--rule-strong);
		background: var(--paper);
		padding: 16px 18px;
		overflow: auto;
		display: flex;
		flex-direction: column;
	}
	.drawer > :global(*) {
		flex: none;
	}
	.subject {
		margin-bottom: 12px;
	}
	table {
		width: 100%;
		border-collapse: collapse;
	}
	td {
		padding: 3px 0 4px;
		vertical-align: top;
	}
	td.num {
		padding-left: 10px;
	}
	.note {
		display: block;
		font-size: 12px;
		line-height: 16px;
	}
	.op {
		color: var(--ink-soft);
		margin-right: 3px;
	}
	tr.subtotal td,
	tr.result td {
		border-top: 1px solid var(--ink);
		font-weight: 600;
		padding-top: 6px;
	}
	tr.fact td {
		color: var(--ink-soft);
	}
	.value {
		padding-bottom: 2px;
	}
	.say {
		margin-top: 14px;
		color: var(--ink-soft);
	}
	.keys {
		margin-top: auto;
		padding-top: 20px;
		display: flex;
		gap: 5px;
		align-items: center;
		font-size: 12px;
	}
	.close {
		margin-left: auto;
		padding: 2px 8px;
		font-size: 12px;
	}
	@media (max-width: 760px) {
		.drawer {
			position: fixed;
			inset: auto 0 0 0;
			width: auto;
			max-height: 70vh;
			border-top: 2px solid var(--reed);
			z-index: 30;
		}
	}
</style>

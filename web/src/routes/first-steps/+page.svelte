<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import { TODAY_TABS } from '#lib/tabs.ts';
	import Mark from '#lib/ui/Mark.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const steps = createQuery(() => ({
		queryKey: ['first-steps'],
		queryFn: () => ask(api.GET('/api/v1/first-steps'))
	}));
	const left = $derived(steps.data?.steps.filter((step) => !step.done).length ?? 0);
	const next = $derived(steps.data?.steps.find((step) => !step.done && step.may)?.name);
</script>

<Sheet question="Where do we begin?" tabs={TODAY_TABS}>
	{#snippet lead()}
		{#if steps.data}
			{left ? `${count(left, 'step')} to go, in this order.` : 'Every step has been taken once.'}
		{/if}
	{/snippet}
	{#if steps.data}
		{#if session.me?.standins}
			<p class="demo">
				<b>This is the demo.</b> Its shops, tills, ledger and suppliers are small simulated services
				with pages of their own, where you act as the shopper, the cashier or the bookkeeper. Their
				addresses and tokens are listed at
				<a href={session.me.standins} target="_blank" rel="noreferrer">{session.me.standins}</a>.
				{steps.data.hint}
			</p>
		{/if}
		<table class="rows">
			<thead
				><tr><th class="num">Step</th><th>What to do</th><th>How it stands</th><th>Where</th></tr
				></thead
			>
			<tbody>
				{#each steps.data.steps as step, n (step.name)}
					<tr data-row class:next={step.name === next}>
						<td class="num n">{n + 1}</td>
						<td class="what"><b>{step.name}</b><span>{step.what}</span></td>
						<td class="stands"
							><Mark state={step.done ? 'done' : step.name === next ? 'next' : 'open'} /><span
								class="soft">{step.stands}</span
							></td
						>
						<td class="go">
							{#if step.may}<a class="quiet" href={step.link}>{step.go}</a>
							{:else}<span class="soft">not as {session.me?.role}</span>{/if}
						</td>
					</tr>
				{/each}
			</tbody>
		</table>
	{:else}
		<Pending query={steps} />
	{/if}
</Sheet>

<style>
	td {
		height: auto;
		padding-top: 7px;
		padding-bottom: 7px;
		vertical-align: top;
		white-space: normal;
	}
	.n {
		width: 60px;
		color: var(--ink-soft);
	}
	.what b,
	.what span {
		display: block;
	}
	.what span {
		color: var(--ink-soft);
	}
	.stands span {
		display: block;
	}
	.go {
		white-space: nowrap;
	}
	.next {
		background: var(--reed-tint);
	}
	.demo {
		padding: 10px 20px;
		background: var(--ochre-tint);
		border-bottom: 1px solid var(--rule);
	}
</style>

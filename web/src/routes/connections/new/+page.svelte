<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { changed } from '#lib/changes.ts';
	import { api, ask, onceKey, Problem } from '#lib/api/client.ts';
	import { session } from '#lib/session.svelte.ts';
	import { CONNECTION_TABS } from '#lib/tabs.ts';
	import SignInFields from '#lib/ui/SignInFields.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	const kinds = createQuery(() => ({
		queryKey: ['kinds'],
		queryFn: () => ask(api.GET('/api/v1/kinds'))
	}));
	let kind = $state('web_shop');
	let name = $state('');
	let address = $state('');
	let like = $state(0);
	const others = createQuery(() => ({
		queryKey: ['connections'],
		queryFn: () => ask(api.GET('/api/v1/connections'))
	}));
	const alike = $derived((others.data ?? []).filter((one) => one.kind === kind));
	let signIn = $state<Record<string, string>>({});
	const chosen = $derived(kinds.data?.find((one) => one.kind === kind));
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);

	async function submit(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		try {
			const made = await ask(
				api.POST('/api/v1/connections', {
					body: { kind, name, address, sign_in: signIn, copy_from: like || null },
					headers: { 'Idempotency-Key': onceKey() }
				})
			);
			await changed();
			await goto(`/connections/${made.id}`);
		} catch (error) {
			refusal = error as Problem;
		}
		busy = false;
	}
</script>

<Sheet question="What shall we connect?" tabs={CONNECTION_TABS}>
	{#snippet lead()}
		The account gives out an address and what to sign in with. After this you test it, set its
		rules, and let it go live.
	{/snippet}
	{#if !session.may('connect channels')}
		<p class="p-5">
			As {session.me?.role} you may not connect channels. Ask a manager;
			<a href="/connections">the connections there are</a> can be looked at.
		</p>
	{:else}<form onsubmit={submit}>
			<label class="ask"
				>Kind
				<select
					class="field"
					bind:value={kind}
					onchange={() => {
						signIn = {};
						like = 0;
					}}
				>
					{#each kinds.data ?? [] as row (row.kind)}<option value={row.kind}>{row.label}</option
						>{/each}
				</select></label
			>
			{#if alike.length}<label class="ask"
					>Copy places and rules from
					<select class="field" bind:value={like}>
						<option value={0}>nothing</option>
						{#each alike as one (one.id)}<option value={one.id}>{one.name}</option>{/each}
					</select></label
				>{/if}
			<label class="ask"
				>Name
				<input
					class="field"
					required
					maxlength="80"
					aria-invalid={refusal?.field === 'name'}
					bind:value={name}
				/></label
			>
			<label class="ask"
				>Address
				<input
					class="field"
					required
					placeholder="https://"
					aria-invalid={refusal?.field === 'address'}
					bind:value={address}
				/></label
			>
			<SignInFields
				entries={chosen?.sign_in ?? []}
				given={signIn}
				wrong={refusal?.field}
				isNew
				isOptional={like > 0}
				onchange={(given) => (signIn = given)}
			/>
			{#if session.me?.standins}<p class="soft">
					This is the demo: its simulated shops, marketplace, tills, ledger and suppliers are
					listed, with address and what they sign in with, at
					<a href={session.me.standins} target="_blank" rel="noreferrer">{session.me.standins}</a>.
				</p>{/if}
			{#if refusal}<p class="bad" role="alert">{refusal.message}</p>{/if}
			<div><button class="do" disabled={busy}>Add as a draft</button></div>
		</form>{/if}
</Sheet>

<style>
	form {
		display: grid;
		gap: 14px;
		padding: 20px;
		max-width: 460px;
	}
	.bad {
		color: var(--madder);
	}
</style>

<script lang="ts">
	import { onMount } from 'svelte';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { session } from '#lib/session.svelte.ts';

	let username = $state('');
	let password = $state('');
	let refusal = $state('');
	let busy = $state(false);
	let door = $state<Schemas['SignInOptions'] | null>(null);

	onMount(async () => {
		try {
			door = await ask(api.GET('/api/v1/sign-in-options'));
		} catch {
			door = null;
		}
	});

	function submit(event: SubmitEvent): void {
		event.preventDefault();
		void enter();
	}

	function enterAs(name: string): void {
		username = name;
		password = door?.password ?? '';
		void enter();
	}

	async function enter(): Promise<void> {
		busy = true;
		refusal = '';
		try {
			await session.signIn(username, password);
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
	}
</script>

<main class="door">
	<svg width="150" height="66" viewBox="-40 -10 80 40" aria-hidden="true">
		<path d="M-36 0H36M-36 0V9M36 0V9M0 0V22M-12 23H12" />
		<circle cx="0" cy="0" r="3.4" />
	</svg>
	<h1>Yuvrel</h1>
	<p class="soft">What the channels show, what the shelves hold, what the ledger says.</p>
	<form onsubmit={submit}>
		<label class="ask"
			>Name <input
				class="field"
				name="username"
				autocomplete="username"
				required
				bind:value={username}
			/></label
		>
		<label class="ask"
			>Password
			<input
				class="field"
				name="password"
				type="password"
				autocomplete="current-password"
				required
				aria-invalid={refusal !== ''}
				bind:value={password}
			/></label
		>
		{#if refusal}<p class="refusal" role="alert">{refusal}</p>{/if}
		<button class="do" disabled={busy}>Sign in</button>
	</form>
	{#if door?.people.length}
		<section class="demo" aria-labelledby="demo">
			<h2 id="demo" class="small soft">This is the demo. Come in as</h2>
			<ul>
				{#each door.people as person (person.username)}
					<li>
						<button
							type="button"
							class="quiet"
							disabled={busy}
							onclick={() => enterAs(person.username)}>{person.username}</button
						><span class="soft">{person.name}</span>
					</li>
				{/each}
			</ul>
			<p class="small soft">or type a name and the password <code>{door.password}</code>.</p>
		</section>
	{/if}
</main>

<style>
	.door {
		min-height: 100vh;
		display: grid;
		justify-items: center;
		align-content: center;
		gap: 8px;
		padding: 20px;
	}
	path {
		stroke: var(--reed);
		stroke-width: 2.4;
		fill: none;
		stroke-linecap: round;
	}
	circle {
		fill: var(--reed);
	}
	h1 {
		font-size: 34px;
		line-height: 42px;
	}
	form {
		display: grid;
		gap: 12px;
		width: 280px;
		margin-top: 18px;
	}
	.demo {
		width: 280px;
		margin-top: 14px;
		padding-top: 12px;
		border-top: 1px solid var(--rule);
		display: grid;
		gap: 8px;
	}
	.demo h2 {
		font-family: inherit;
	}
	li {
		display: grid;
		grid-template-columns: 116px 1fr;
		gap: 12px;
		align-items: center;
		padding: 2px 0;
	}
</style>

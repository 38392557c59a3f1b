<script lang="ts">
	import '../app.css';
	import { QueryClientProvider } from '@tanstack/svelte-query';
	import type { Snippet } from 'svelte';
	import { afterNavigate, goto } from '$app/navigation';
	import { page } from '$app/state';
	import { changes } from '#lib/changes.ts';
	import { drawer } from '#lib/drawer.svelte.ts';
	import { dispatch, onKey } from '#lib/keys.ts';
	import { look } from '#lib/look.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { STATIONS, stationOf } from '#lib/stations.ts';
	import CommandLine from '#lib/ui/CommandLine.svelte';
	import KeySheet from '#lib/ui/KeySheet.svelte';
	import Notices from '#lib/ui/Notices.svelte';
	import SignIn from '#lib/ui/SignIn.svelte';
	import StationBar from '#lib/ui/StationBar.svelte';
	import WorkingDrawer from '#lib/ui/WorkingDrawer.svelte';

	let { children }: { children: Snippet } = $props();
	let keysOpen = $state(false);
	let commandOpen = $state(false);

	look.start();
	void session.load();

	function act(event: KeyboardEvent): boolean {
		if (event.key === '?') keysOpen = true;
		else if (event.key === ':') commandOpen = true;
		else if (event.key === 'Escape' && drawer.isOpen) drawer.close();
		else if (/^[1-7]$/.test(event.key)) void goto(STATIONS[Number(event.key) - 1]?.path ?? '/');
		else return false;
		return true;
	}

	$effect(() => onKey(act));
	$effect(() => (session.me ? changes.follow() : undefined));
	afterNavigate(({ from, to }) => {
		if (from?.url.pathname !== to?.url.pathname) drawer.close();
	});
	const title = $derived(STATIONS.find((s) => s.key === stationOf(page.url.pathname))?.name);
</script>

<svelte:head><title>{session.me ? `${title} · Yuvrel` : 'Yuvrel'}</title></svelte:head>
<svelte:window onkeydown={dispatch} />

<QueryClientProvider client={changes}>
	{#if !session.known}
		<p class="p-8 soft" role="status">Opening…</p>
	{:else if !session.me}
		<SignIn />
	{:else}
		<div class="frame">
			<StationBar onkeys={() => (keysOpen = true)} />
			<div class="desk">
				<main>{@render children()}</main>
				{#if drawer.isOpen}<WorkingDrawer />{/if}
			</div>
		</div>
		<KeySheet isOpen={keysOpen} onclose={() => (keysOpen = false)} />
		<CommandLine isOpen={commandOpen} onclose={() => (commandOpen = false)} />
	{/if}
	<Notices />
</QueryClientProvider>

<style>
	.frame {
		height: 100vh;
		display: flex;
		flex-direction: column;
	}
	.desk {
		flex: 1;
		display: flex;
		min-height: 0;
	}
	main {
		flex: 1;
		min-width: 0;
		min-height: 0;
	}
</style>

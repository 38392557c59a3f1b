<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { look } from '#lib/look.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { STATIONS, stationOf } from '#lib/stations.ts';
	import { notices } from '#lib/notice.svelte.ts';

	type Props = { onkeys: () => void };
	let { onkeys }: Props = $props();
	const bar = createQuery(() => ({
		queryKey: ['bar'],
		queryFn: () => ask(api.GET('/api/v1/bar'))
	}));
	const here = $derived(stationOf(page.url.pathname));

	async function leave(): Promise<void> {
		try {
			await session.signOut();
		} catch (error) {
			notices.fail(error);
		}
	}
</script>

<header class="station-bar">
	<a class="brand" href="/" aria-label="Yuvrel, today">
		<svg width="32" height="16" viewBox="-40 -14 80 40" aria-hidden="true">
			<path d="M-36 0H36M-36 0V9M36 0V9M0 0V22M-12 23H12" />
			<circle cx="0" cy="0" r="4" />
		</svg>
		<span>Yuvrel</span>
	</a>
	<nav aria-label="Stations">
		<ol>
			{#each STATIONS as station (station.key)}
				{@const waiting = bar.data?.[station.key] ?? 0}
				<li class:here={here === station.key}>
					<a
						href={station.path}
						aria-current={here === station.key ? 'page' : undefined}
						title="{waiting} {station.waits}"
					>
						{station.name}
						{#if waiting}<span class="waits">{waiting}</span>{/if}
					</a>
				</li>
			{/each}
		</ol>
	</nav>
	<div class="who">
		<a
			class="name"
			href="/account"
			title="{session.me?.name}, {session.me?.company}: password, sessions, tokens"
			>{session.me?.name}</a
		><span class="soft">{session.me?.role}</span>
		<button
			class="tool"
			onclick={() => look.set(look.mode === 'dark' ? 'light' : 'dark')}
			aria-label={look.mode === 'dark' ? 'Light' : 'Dark'}
			title={look.mode === 'dark' ? 'Light paper' : 'Dark paper'}
		>
			<svg width="13" height="13" viewBox="0 0 12 12" aria-hidden="true"
				><circle cx="6" cy="6" r="5" fill="none" stroke="currentColor" stroke-width="1.4" /><path
					d="M6 1A5 5 0 0 1 6 11Z"
					fill="currentColor"
				/></svg
			>
		</button>
		<button class="tool" onclick={onkeys} aria-label="Keys" title="Keys">?</button>
		<button class="tool wide" onclick={leave}>Sign out</button>
	</div>
</header>

{#if bar.data?.held}
	<p class="held" role="status">
		Restored from a backup: nothing goes out.
		<a href="/recovery">See what happened since, and let it send again</a>
	</p>
{/if}

<style>
	.held {
		margin: 0;
		padding: 7px 20px;
		background: var(--ochre-tint);
		border-bottom: 1px solid var(--rule-strong);
	}
	.station-bar {
		display: flex;
		align-items: center;
		gap: 26px;
		padding: 0 20px;
		height: 56px;
		border-bottom: 1px solid var(--rule-strong);
		background: var(--paper);
		flex: none;
	}
	.brand {
		display: flex;
		align-items: center;
		gap: 10px;
		color: var(--ink);
		text-decoration: none;
		font:
			600 20px 'Literata Variable',
			Georgia,
			serif;
	}
	.brand path {
		stroke: var(--reed);
		stroke-width: 4;
		fill: none;
		stroke-linecap: round;
	}
	.brand circle {
		fill: var(--reed);
	}
	nav {
		flex: 1;
		min-width: 0;
		overflow-x: auto;
		scrollbar-width: none;
	}
	ol {
		display: flex;
		min-width: 560px;
	}
	li {
		flex: 1;
		position: relative;
		padding-bottom: 17px;
		padding-top: 6px;
	}
	li a {
		display: block;
		padding-left: 14px;
		color: var(--ink-soft);
		text-decoration: none;
		white-space: nowrap;
	}
	li a:hover {
		color: var(--ink);
	}
	.waits {
		font-weight: 600;
		color: var(--ink);
		margin-left: 3px;
	}
	li::before {
		content: '';
		position: absolute;
		bottom: 9px;
		left: 0;
		right: 0;
		height: 1px;
		background: var(--rule-strong);
	}
	li::after {
		content: '';
		position: absolute;
		bottom: 5px;
		left: 0;
		width: 9px;
		height: 9px;
		border-radius: 50%;
		border: 1px solid var(--rule-strong);
		background: var(--paper);
	}
	.here a {
		color: var(--reed);
		font-weight: 600;
	}
	.here::before {
		height: 3px;
		bottom: 8px;
		background: var(--reed);
	}
	.here::after {
		background: var(--reed);
		border-color: var(--reed);
		width: 13px;
		height: 13px;
		bottom: 3px;
	}
	.who {
		display: flex;
		align-items: center;
		gap: 8px;
		white-space: nowrap;
	}
	.name {
		max-width: 170px;
		overflow: hidden;
		text-overflow: ellipsis;
	}
	.tool {
		border: 1px solid var(--rule-strong);
		border-radius: 3px;
		min-width: 26px;
		height: 26px;
		display: inline-flex;
		align-items: center;
		justify-content: center;
		background: var(--sheet);
		cursor: pointer;
	}
	.wide {
		padding: 0 8px;
	}
	@media (max-width: 760px) {
		.station-bar {
			flex-wrap: wrap;
			height: auto;
			gap: 4px 12px;
			padding: 6px 12px;
		}
		nav {
			order: 3;
			flex-basis: 100%;
		}
		.name,
		.who .soft {
			display: none;
		}
		.who {
			margin-left: auto;
		}
	}
</style>

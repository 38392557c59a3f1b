<script lang="ts">
	import type { Snippet } from 'svelte';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { drawer } from '#lib/drawer.svelte.ts';
	import { onKey } from '#lib/keys.ts';

	/** One sheet: a question, a line of explanation, filters, rows that can be walked, a totals line. */
	type Tab = { name: string; path: string; count?: number };
	type Props = {
		question: string;
		lead?: Snippet;
		tabs?: Tab[];
		filters?: Snippet;
		children: Snippet;
		totals?: Snippet;
		newPath?: string;
	};
	let { question, lead, tabs = [], filters, children, totals, newPath }: Props = $props();
	let body = $state<HTMLElement>();
	/** The sheet that is open, or the one that a single thing was opened from: that with the longest fitting path. */
	const open = $derived(
		tabs
			.filter((tab) => `${page.url.pathname}/`.startsWith(tab.path === '/' ? '//' : `${tab.path}/`))
			.reduce((best, tab) => (tab.path.length > best.length ? tab.path : best), '')
	);
	const standing = (path: string): 'page' | 'true' | undefined =>
		page.url.pathname === path ? 'page' : path === open ? 'true' : undefined;

	function rows(): HTMLTableRowElement[] {
		return body ? [...body.querySelectorAll<HTMLTableRowElement>('tr[data-row]')] : [];
	}

	function current(): HTMLTableRowElement | undefined {
		return rows().find((row) => row.getAttribute('aria-current') === 'true');
	}

	function stand(row: HTMLTableRowElement | undefined, focus = true): void {
		if (!row) return;
		for (const other of rows()) other.removeAttribute('aria-current');
		row.setAttribute('aria-current', 'true');
		if (focus) {
			row.tabIndex = -1;
			row.focus({ preventScroll: true });
			row.scrollIntoView({ block: 'nearest' });
		}
		if (drawer.isOpen) openIn(row, drawer.kind);
	}

	function openIn(row: HTMLTableRowElement, kind: string): void {
		const fig = row.querySelector<HTMLButtonElement>(
			kind ? `button[data-fig="${kind}"]` : 'button[data-fig]'
		);
		if (fig) drawer.open(fig.dataset.fig ?? '', fig.dataset.key ?? '');
	}

	function walk(step: number): void {
		const all = rows();
		const at = all.indexOf(current() as HTMLTableRowElement);
		stand(all[Math.min(all.length - 1, Math.max(0, at < 0 ? 0 : at + step))]);
	}

	function act(event: KeyboardEvent): boolean {
		const row = current();
		switch (event.key) {
			case 'ArrowDown':
			case 'ArrowUp':
				walk(event.key === 'ArrowDown' ? 1 : -1);
				return true;
			case 'Enter': {
				const link = row?.querySelector<HTMLAnchorElement>('a[href]');
				if (!link || document.activeElement !== row) return false;
				link.click();
				return true;
			}
			case ' ': {
				const box = row?.querySelector<HTMLInputElement>('input[type=checkbox]');
				if (!box || document.activeElement !== row) return false;
				const shift = { shiftKey: event.shiftKey };
				box.dispatchEvent(new MouseEvent('click', { bubbles: true, cancelable: true, ...shift }));
				return true;
			}
			case 'w':
				if (drawer.isOpen) drawer.close();
				else if (row) openIn(row, '');
				return true;
			case '/':
				body?.parentElement?.querySelector<HTMLInputElement>('input[data-filter]')?.focus();
				return true;
			case 'n':
				if (!newPath) return false;
				void goto(newPath);
				return true;
		}
		return false;
	}

	/** What is cut with an ellipsis shows itself whole under the pointer. */
	function tell(event: Event): void {
		const cell = (event.target as HTMLElement).closest<HTMLElement>('td.place, td.clip');
		if (cell && !cell.title && cell.scrollWidth > cell.clientWidth)
			cell.title = cell.textContent?.trim() ?? '';
	}

	$effect(() => onKey(act));
</script>

<section class="sheet">
	<header>
		<div class="title">
			<h1>{question}</h1>
			{#if tabs.length}
				<nav aria-label="Sheets of this station">
					{#each tabs as tab (tab.path)}
						<a href={tab.path} aria-current={standing(tab.path)}
							>{tab.name}{#if tab.count}<span class="count">{tab.count}</span>{/if}</a
						>
					{/each}
				</nav>
			{/if}
		</div>
		{#if lead}<p class="lead">{@render lead()}</p>{/if}
		{#if filters}<div class="filters">{@render filters()}</div>{/if}
	</header>
	<!-- svelte-ignore a11y_no_noninteractive_tabindex (a scrolling region must be reachable by keyboard) -->
	<div
		class="body"
		bind:this={body}
		role="region"
		tabindex="0"
		aria-label="Rows"
		onpointerover={tell}
		onclickcapture={(event) => {
			const row = (event.target as HTMLElement).closest<HTMLTableRowElement>('tr[data-row]');
			if (row) stand(row, false);
		}}
	>
		{@render children()}
	</div>
	{#if totals}<footer>{@render totals()}</footer>{/if}
</section>

<style>
	.sheet {
		display: flex;
		flex-direction: column;
		height: 100%;
		min-width: 0;
		background: var(--sheet);
	}
	header {
		padding: 14px 20px 12px;
		background: var(--paper);
		border-bottom: 1px solid var(--rule);
	}
	.title {
		display: flex;
		align-items: baseline;
		justify-content: space-between;
		gap: 20px;
		flex-wrap: wrap;
	}
	nav {
		display: flex;
		gap: 18px;
	}
	nav a {
		color: var(--ink-soft);
		text-decoration: none;
		padding: 2px 0;
		border-bottom: 2px solid transparent;
	}
	nav a:hover {
		color: var(--ink);
	}
	nav a[aria-current] {
		color: var(--reed);
		font-weight: 600;
		border-bottom-color: var(--reed);
	}
	.count {
		margin-left: 5px;
		font-weight: 600;
		color: var(--ink);
	}
	.lead {
		color: var(--ink-soft);
		margin-top: 2px;
	}
	.filters {
		display: flex;
		gap: 8px;
		align-items: center;
		flex-wrap: wrap;
		margin-top: 10px;
	}
	.body {
		flex: 1;
		overflow: auto;
		min-height: 0;
		position: relative;
	}
	footer {
		border-top: 1px solid var(--ink);
		padding: 10px 20px;
		display: flex;
		gap: 24px;
		align-items: center;
		min-height: 48px;
		background: var(--sheet);
		flex-wrap: wrap;
	}
</style>

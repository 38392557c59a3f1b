<script lang="ts">
	import type { Snippet } from 'svelte';
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Thumb from './Thumb.svelte';

	/** Finds a stocked item by SKU, title or barcode; what is there already is left out. `more`: what else may be done
	 * with the words that were typed. */
	type Props = {
		label: string;
		sought: string;
		without: readonly number[];
		onpick: (row: Schemas['ItemRow']) => void;
		more?: Snippet<[string]>;
	};
	let { label, sought = $bindable(), without, onpick, more }: Props = $props();
	const words = $derived(sought.trim());
	const found = createQuery(() => ({
		queryKey: ['items', 'line', words],
		queryFn: () =>
			ask(api.GET('/api/v1/items', { params: { query: { q: words, kind: 'stocked', limit: 8 } } })),
		enabled: words.length > 1,
		placeholderData: (before) => before
	}));
	let list = $state<HTMLElement>();
	let field = $state<HTMLElement>();

	/** From what is typed down into what was found, along it, and back. */
	function walk(event: KeyboardEvent): void {
		const step = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1 }[event.key];
		const all = [...(list?.querySelectorAll('button') ?? [])];
		const at = all.indexOf(document.activeElement as HTMLButtonElement);
		const isTyping = document.activeElement === field;
		if (!step || (isTyping && event.key !== 'ArrowDown') || !all.length) return;
		event.preventDefault();
		(at + step < 0 ? field : all[Math.min(all.length - 1, at + step)])?.focus();
	}
	const offered = $derived((found.data?.rows ?? []).filter((row) => !without.includes(row.id)));
</script>

<label class="ask seek"
	>{label}
	<input
		class="field"
		placeholder="SKU, title or barcode"
		bind:this={field}
		onkeydown={walk}
		bind:value={sought}
	/></label
>
{#if words.length > 1}<ul aria-label="Items found" bind:this={list}>
		{#each offered as row (row.id)}<li>
				<button type="button" class="quiet" onkeydown={walk} onclick={() => onpick(row)}
					><Thumb picture={row.picture} />{row.title}
					<span class="soft small">{row.sku}</span></button
				>
			</li>{/each}
		{@render more?.(words)}
	</ul>{/if}

<style>
	.seek {
		width: 300px;
	}
	ul {
		display: flex;
		flex-wrap: wrap;
		gap: 6px;
		width: 100%;
	}
</style>

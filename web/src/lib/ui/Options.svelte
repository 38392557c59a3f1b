<script lang="ts" module>
	/** An option as it is typed: its name, and its values with commas between. */
	export type Typed = { name: string; values: string };
</script>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { Resting } from '#lib/resting.svelte.ts';
	import { words } from './ProductFacts.svelte';
	import Mark from './Mark.svelte';

	/** Options and a SKU pattern, with every item they make: which are new, which are there, which clash. */
	type Props = {
		options: Typed[];
		pattern: string;
		product?: number;
		/** The options of a product with items keep their names. */
		isFixed?: boolean;
		wrong?: string;
		onchange: (options: Typed[], pattern: string) => void;
		onfound?: (fresh: number, isWhole: boolean) => void;
	};
	let {
		options,
		pattern,
		product,
		isFixed = false,
		wrong = '',
		onchange,
		onfound
	}: Props = $props();
	const body = $derived<Schemas['PreviewIn']>({
		options: options
			.filter((one) => one.name.trim() || one.values.trim())
			.map((one) => ({ name: one.name, values: words(one.values) })),
		pattern
	});
	const resting = new Resting<Schemas['PreviewIn']>(() => body);
	const found = createQuery(() => ({
		queryKey: ['preview items', product, resting.value],
		queryFn: () =>
			ask(
				api.POST('/api/v1/products/preview', {
					params: { query: product ? { product } : {} },
					body: resting.value
				})
			),
		enabled: resting.value.pattern.trim() !== '',
		placeholderData: (before) => before,
		retry: false
	}));
	const ORDER = ['clash', 'new', 'there'];
	const rows = $derived(
		pattern.trim() && !found.isError
			? [...(found.data ?? [])].sort((a, b) => ORDER.indexOf(a.state) - ORDER.indexOf(b.state))
			: []
	);
	const fresh = $derived(rows.filter((row) => row.state === 'new').length);
	const clashes = $derived(rows.filter((row) => row.state === 'clash').length);
	$effect(() => onfound?.(fresh, rows.length > 0 && clashes === 0));

	const put = (n: number, change: Partial<Typed>): void =>
		onchange(
			options.map((one, at) => (at === n ? { ...one, ...change } : one)),
			pattern
		);
	const MARKS: Record<string, string> = { new: 'ready', there: 'closed', clash: 'refused' };
</script>

<div class="options">
	{#each options as one, n (n)}
		<div class="option">
			<label class="ask"
				>Option {n + 1}
				<input
					class="field"
					maxlength="40"
					placeholder="Size"
					disabled={isFixed}
					value={one.name}
					oninput={(event) => put(n, { name: event.currentTarget.value })}
				/></label
			>
			<label class="ask"
				>Values of {one.name || `option ${n + 1}`}
				<input
					class="field"
					placeholder="S, M, L"
					aria-invalid={wrong === 'options' || undefined}
					value={one.values}
					oninput={(event) => put(n, { values: event.currentTarget.value })}
				/></label
			>
			{#if !isFixed}<button
					type="button"
					class="quiet"
					onclick={() =>
						onchange(
							options.filter((_, at) => at !== n),
							pattern
						)}>Remove</button
				>{/if}
		</div>
	{/each}
	<div class="option">
		<label class="ask"
			>SKU{options.length ? ' pattern' : ''}
			<input
				class="field"
				maxlength="60"
				placeholder={options.length ? 'SMO-{size}' : 'SMO-1'}
				aria-invalid={wrong === 'pattern' || undefined}
				value={pattern}
				oninput={(event) => onchange(options, event.currentTarget.value)}
			/>
			{#if options.length}<span class="soft small"
					>{'{size}'} stands for the value of that option</span
				>{/if}</label
		>
		{#if !isFixed && options.length < 5}<button
				type="button"
				class="quiet"
				onclick={() => onchange([...options, { name: '', values: '' }], pattern)}>Add option</button
			>{/if}
	</div>
</div>
{#if pattern.trim()}
	{#if found.isError}<p class="bad" role="alert">{found.error.message}</p>
	{:else if rows.length}
		<p class="soft" role="status">
			{count(fresh, 'new item')}{rows.length - fresh - clashes
				? `, ${rows.length - fresh - clashes} there already`
				: ''}{#if clashes}, <b class="bad">{clashes} in clash with another item's SKU</b>{/if}.
		</p>
		<div class="frame">
			<table class="rows" aria-label="Items">
				<tbody>
					{#each rows as row, n (n)}
						<tr
							><td>{row.sku}</td><td class="soft"
								>{Object.values(row.options).join(' · ') || 'without options'}</td
							><td
								><Mark state={MARKS[row.state] ?? 'ready'} word={row.state} />
								{#if row.state === 'clash' && row.item_id}<a href="/range/items/{row.item_id}"
										>see the other</a
									>{/if}</td
							></tr
						>
					{/each}
				</tbody>
			</table>
		</div>
	{/if}
{/if}

<style>
	.options {
		display: grid;
		gap: 10px;
		max-width: 760px;
	}
	.option {
		display: flex;
		gap: 12px;
		align-items: end;
	}
	.option .ask:first-child {
		width: 210px;
	}
	.option .ask:nth-child(2) {
		flex: 1;
	}
	.option:last-child .ask {
		width: 330px;
	}
	.option:last-child {
		align-items: center;
	}
	.frame {
		max-height: 300px;
		overflow: auto;
		border: 1px solid var(--rule);
		max-width: 760px;
		margin-top: 6px;
	}
	.bad {
		color: var(--madder);
	}
</style>

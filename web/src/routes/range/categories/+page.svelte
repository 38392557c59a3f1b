<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { page } from '$app/state';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Dialogue from '#lib/ui/Dialogue.svelte';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	/** The tree of categories: what is set for one counts for all that lie in it. */
	type Row = Schemas['CategoryOut'];
	const categories = createQuery(() => ({
		queryKey: ['categories'],
		queryFn: () => ask(api.GET('/api/v1/categories'))
	}));
	const rows = $derived(categories.data ?? []);
	const may = $derived(session.may('change the range'));
	let isNew = $state(page.url.searchParams.has('new'));
	let chosen = $state<Row | null>(null);
	let name = $state('');
	let parent = $state('');
	let into = $state('');
	let refusal = $state('');
	const isOpen = $derived(isNew || chosen !== null);
	/** What may hold it: anything but itself and what lies in it. */
	const others = $derived.by(() => {
		if (!chosen) return rows;
		const at = rows.findIndex((row) => row.id === chosen?.id);
		const end = rows.findIndex((row, n) => n > at && row.depth <= (chosen?.depth ?? 0));
		return rows.filter((_, n) => n < at || (end >= 0 && n >= end));
	});

	function open(row: Row | null): void {
		chosen = row;
		isNew = row === null;
		name = row?.name ?? '';
		parent = `${row?.parent_id ?? ''}`;
		into = '';
		refusal = '';
	}

	function close(): void {
		isNew = false;
		chosen = null;
	}

	async function act(work: () => Promise<unknown>, said: string): Promise<void> {
		refusal = '';
		try {
			await work();
			notices.say(said);
			close();
		} catch (error) {
			refusal = (error as Error).message;
		}
		await changed();
	}

	function save(event: SubmitEvent): void {
		event.preventDefault();
		const body = { name, parent_id: parent ? Number(parent) : null };
		const one = chosen;
		void act(
			() =>
				one
					? ask(
							api.PATCH('/api/v1/categories/{category_id}', {
								params: { path: { category_id: one.id } },
								body
							})
						)
					: ask(api.POST('/api/v1/categories', { body })),
			one ? 'Saved.' : `${name} is made.`
		);
	}
	const merge = (one: Row): Promise<void> =>
		act(
			() =>
				ask(
					api.POST('/api/v1/categories/{category_id}/merge', {
						params: { path: { category_id: one.id } },
						body: { into_id: Number(into) }
					})
				),
			`All of ${one.name} was moved.`
		);
	const remove = (one: Row): Promise<void> =>
		act(
			() =>
				ask(
					api.DELETE('/api/v1/categories/{category_id}', {
						params: { path: { category_id: one.id } }
					})
				),
			`${one.name} was deleted.`
		);
</script>

<Sheet question="How is the range divided?" tabs={RANGE_TABS} newPath="/range/categories?new">
	{#snippet lead()}What is set for a category counts for all that lie in it, until something nearer
		says otherwise.{/snippet}
	{#snippet filters()}{#if may}<button class="do" onclick={() => open(null)}>New category</button
			>{/if}{/snippet}
	{#if rows.length}
		<table class="rows tree">
			<thead
				><tr
					><th>Category</th><th class="num">Items in it</th><th class="num">with those below</th><th
						><span class="sr-only">Change</span></th
					></tr
				></thead
			>
			<tbody>
				{#each rows as row (row.id)}
					<tr data-row
						><td class="long" style:padding-left="{20 + row.depth * 22}px"
							>{#if row.depth}<span class="soft" aria-hidden="true">└ </span>{/if}{row.name}</td
						><td class="num">{figure(`${row.own}`)}</td><td class="num"
							>{row.items === row.own ? '' : figure(`${row.items}`)}</td
						><td
							>{#if may}<button
									class="quiet"
									aria-label="Change {row.name}"
									onclick={() => open(row)}>Change</button
								>{/if}</td
						></tr
					>
				{/each}
			</tbody>
		</table>
	{:else}<Pending
			query={categories}
			isEmpty
			empty="No category yet. One is made with the first product that names it."
			first={{ text: 'New product', path: '/range/new' }}
		/>{/if}
	{#snippet totals()}<span>{count(rows.length, 'category', 'categories')}</span>{/snippet}
</Sheet>
<Dialogue {isOpen} title={chosen ? `Category ${chosen.name}` : 'A new category'} onclose={close}>
	{#if isOpen}
		<form onsubmit={save} aria-label="Category">
			<label class="ask">Name <input class="field" maxlength="60" bind:value={name} /></label>
			<label class="ask"
				>Lies in
				<select class="field" bind:value={parent}>
					<option value="">nothing: at the top</option>
					{#each others as row (row.id)}<option value={`${row.id}`}
							>{' '.repeat(row.depth * 3)}{row.name}</option
						>{/each}
				</select></label
			>
			<p><button class="do" disabled={!name.trim()}>{chosen ? 'Save' : 'Make it'}</button></p>
		</form>
		{#if chosen}
			{@const one = chosen}
			<div class="away">
				{#if one.items || rows.some((row) => row.parent_id === one.id)}
					<label class="ask"
						>Put all that is in it into
						<select class="field" bind:value={into}>
							<option value="">choose another</option>
							{#each others as row (row.id)}<option value={`${row.id}`}>{row.name}</option>{/each}
						</select></label
					>
					<button class="quiet" disabled={!into} onclick={() => merge(one)}
						>Move it all and delete {one.name}</button
					>
				{:else}<button class="quiet" onclick={() => remove(one)}>Delete {one.name}</button>{/if}
			</div>
		{/if}
		<p class="bad" role="alert">{refusal}</p>
	{/if}
</Dialogue>

<style>
	.tree {
		width: auto;
		min-width: 620px;
	}
	form,
	.away {
		display: grid;
		gap: 10px;
	}
	.away {
		margin-top: 16px;
		padding-top: 14px;
		border-top: 1px solid var(--rule);
		justify-items: start;
	}
	.bad {
		color: var(--madder);
		margin-top: 8px;
	}
	@media (max-width: 700px) {
		.tree {
			min-width: 0;
		}
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { goto } from '$app/navigation';
	import { page } from '$app/state';
	import { api, ask } from '#lib/api/client.ts';
	import { count, figure } from '#lib/format.ts';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { RANGE_TABS } from '#lib/tabs.ts';
	import Pending from '#lib/ui/Pending.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';

	/** Words that recur (sizes, colours, categories, tags), said once in a language for all products. */
	const MOST_SHOWN = 400;
	const language = $derived(page.url.searchParams.get('language') ?? '');
	let sought = $state('');
	let isLacking = $state(false);
	const choices = createQuery(() => ({
		queryKey: ['range choices'],
		queryFn: () => ask(api.GET('/api/v1/range/choices'))
	}));
	const words = createQuery(() => ({
		queryKey: ['words', language],
		queryFn: () =>
			ask(api.GET('/api/v1/range/words/{language}', { params: { path: { language } } })),
		enabled: language !== ''
	}));
	const name = $derived(
		choices.data?.languages.find((one) => one.code === language)?.name ?? language
	);
	const may = $derived(session.may('change the range'));
	const form = new FormState<Record<string, string>>(() =>
		Object.fromEntries((words.data ?? []).map((row) => [row.word, row.said]))
	).guard();
	const lacking = $derived((words.data ?? []).filter((row) => !row.said).length);
	const rows = $derived(
		(words.data ?? []).filter(
			(row) =>
				(!isLacking || !row.said || form.typed[row.word] !== undefined) &&
				[row.word, row.sort, row.said].some((text) =>
					text.toLowerCase().includes(sought.trim().toLowerCase())
				)
		)
	);

	function choose(next: string): void {
		void goto(next ? `/range/words?language=${next}` : '/range/words');
	}

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const said = Object.fromEntries(
			Object.entries(form.typed).map(([word, text]) => [word, text ?? ''])
		);
		const done = await form.send(() =>
			ask(
				api.PUT('/api/v1/range/words/{language}', {
					params: { path: { language } },
					body: { words: said }
				})
			)
		);
		if (done) notices.say(done.said);
	}
</script>

<Sheet question="What do we call it in other languages?" tabs={RANGE_TABS}>
	{#snippet lead()}Values of options, categories and tags, translated once for all products. A
		channel with a language uses them; a word without a translation stays as it is.{/snippet}
	{#snippet filters()}
		<select
			class="field which"
			aria-label="Language"
			value={language}
			onchange={(event) => choose(event.currentTarget.value)}
		>
			<option value="">Choose a language</option>
			{#each choices.data?.languages ?? [] as one (one.code)}<option value={one.code}
					>{one.name}</option
				>{/each}
		</select>
		{#if language}<input
				class="field sought"
				type="search"
				placeholder="Search"
				aria-label="Search words"
				bind:value={sought}
			/>
			<label class="tick"
				><input type="checkbox" bind:checked={isLacking} /> not translated yet</label
			>{/if}
	{/snippet}
	{#if language && words.data}
		<form onsubmit={save} aria-label="Words in {name}">
			<table class="rows words">
				<thead
					><tr><th>Word</th><th>What it is</th><th class="num">Items</th><th>In {name}</th></tr
					></thead
				>
				<tbody>
					{#each rows.slice(0, MOST_SHOWN) as row (row.word)}
						<tr data-row
							><td class="place">{row.word}</td><td class="soft place">{row.sort}</td><td
								class="num">{figure(`${row.items}`)}</td
							><td
								><input
									class="field"
									maxlength="60"
									lang={language}
									aria-label="{row.word} in {name}"
									placeholder={row.word}
									disabled={!may || form.busy}
									value={form.value[row.word] ?? ''}
									oninput={(event) => form.set({ [row.word]: event.currentTarget.value })}
								/></td
							></tr
						>
					{:else}<tr><td colspan="4" class="soft">No such word.</td></tr>{/each}
				</tbody>
			</table>
			{#if rows.length > MOST_SHOWN}<p class="soft">
					The first {MOST_SHOWN} of {rows.length}; search for the others, or take them out as a
					<a href="/range/sheets?kind=words">file</a>.
				</p>{/if}
			{#if may}<div class="below"><SaveLine {form} save="Save words" /></div>{/if}
		</form>
	{:else if language}<Pending query={words} />
	{:else}<p class="soft none">Choose the language first.</p>{/if}
	{#snippet totals()}{#if words.data}<span>{count(words.data.length, 'word')}</span><span
				>{figure(`${lacking}`)} not translated into {name} yet</span
			>{/if}{/snippet}
</Sheet>

<style>
	.words {
		width: auto;
		min-width: 640px;
	}
	.words .field {
		width: 260px;
	}
	.which,
	.sought {
		width: auto;
	}
	.tick {
		display: flex;
		gap: 6px;
		align-items: center;
		min-height: 24px;
	}
	.below,
	.none,
	form > p {
		margin: 0 20px 16px;
	}
	.none {
		margin-top: 16px;
	}
	@media (max-width: 700px) {
		.words {
			min-width: 0;
		}
		.words .field {
			width: 100%;
		}
	}
</style>

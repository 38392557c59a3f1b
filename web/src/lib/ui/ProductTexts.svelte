<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import RichText from '#lib/kit/RichText.svelte';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';

	/** What a product is called and described by in other languages, one at a time. */
	type Props = { product: Schemas['ProductOut']; may: boolean };
	let { product, may }: Props = $props();
	const choices = createQuery(() => ({
		queryKey: ['range choices'],
		queryFn: () => ask(api.GET('/api/v1/range/choices'))
	}));
	const names = $derived(
		Object.fromEntries((choices.data?.languages ?? []).map((one) => [one.code, one.name]))
	);
	let picked = $state<string | null>(null);
	const language = $derived(picked ?? product.texts[0]?.language ?? '');
	const others = $derived(
		(choices.data?.languages ?? []).filter(
			(one) => !product.texts.some((text) => text.language === one.code)
		)
	);
	const form = new FormState<{ title: string; description: string }>(
		() =>
			product.texts.find((text) => text.language === language) ?? { title: '', description: '' },
		() => product.version
	).guard();

	function choose(next: string): void {
		if (form.isEdited && !confirm('Leave without saving what you typed?')) return;
		form.drop();
		picked = next;
	}

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const { title, description } = form.value;
		const done = await form.send(() =>
			ask(
				api.PUT('/api/v1/products/{product_id}/texts/{language}', {
					params: { path: { product_id: product.id, language } },
					body: { version: form.version, title, description }
				})
			)
		);
		if (done) notices.say(title ? 'Saved.' : `The text in ${names[language]} was taken away.`);
	}
</script>

<div class="texts">
	<div class="which" role="group" aria-label="Language">
		{#each product.texts as text (text.language)}
			<button
				class="quiet"
				aria-pressed={language === text.language}
				onclick={() => choose(text.language)}>{names[text.language] ?? text.language}</button
			>
		{/each}
		{#if may}<select
				class="field"
				aria-label="Another language"
				value={others.some((one) => one.code === language) ? language : ''}
				onchange={(event) => choose(event.currentTarget.value)}
			>
				<option value="">{product.texts.length ? 'Another language' : 'Choose a language'}</option>
				{#each others as one (one.code)}<option value={one.code}>{one.name}</option>{/each}
			</select>{/if}
	</div>
	{#if language}
		{#key language}
			<form onsubmit={save} aria-label="Texts in {names[language]}">
				<fieldset disabled={!may || form.busy}>
					<Field {form} name="title" label="Title in {names[language]}" max={160} />
					<RichText
						{form}
						name="description"
						label="Description in {names[language]}"
						isFixed={!may}
					/>
				</fieldset>
				{#if may}<SaveLine {form} save="Save in {names[language]}" />{/if}
			</form>
		{/key}
		<p class="soft small">
			Options, category and tags are translated once for all products: <a
				href="/range/words?language={language}">words in {names[language]}</a
			>.
		</p>
	{:else if !may}<p class="soft">It has no text in another language.</p>{/if}
</div>

<style>
	.texts {
		display: grid;
		gap: 10px;
		max-width: 640px;
		margin-inline: 20px;
	}
	.which {
		display: flex;
		flex-wrap: wrap;
		gap: 6px;
		align-items: center;
	}
	.which select {
		width: auto;
	}
	.which button[aria-pressed='true'] {
		background: var(--reed-tint);
		border-color: var(--reed);
	}
	fieldset {
		display: grid;
		gap: 10px;
	}
</style>

<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';

	/** What each word of an account means here: those its kind knows, those heard, and those set. */
	type Choice = { value: string; label: string };
	type Props = {
		setting: Schemas['SettingOut'];
		words: readonly Schemas['WordOut'][];
		/** What can be chosen, where the account names it. */
		offered?: readonly Choice[];
		/** What one word can mean, where that differs from word to word. */
		allowed?: Record<string, readonly string[]>;
		value: string;
		inherited: string;
		disabled: boolean;
		onchange: (value: string) => void;
	};
	let {
		setting,
		words,
		offered = [],
		allowed = {},
		value,
		inherited,
		disabled,
		onchange
	}: Props = $props();
	const choices = $derived<readonly Choice[]>(setting.choices.length ? setting.choices : offered);
	const isRate = $derived(setting.words === 'tax_rates');
	const choicesOf = (word: string): readonly Choice[] =>
		allowed[word]?.map((one) => ({ value: one, label: one })) ?? choices;
	/** What a word that nobody gave a meaning means. */
	const UNSET: Record<string, string> = {
		tax_rates: 'no code',
		places: 'none of ours',
		charges: 'by name alone',
		our_states: 'not told',
		attributes: 'left there',
		categories: 'of the same name',
		taxes: 'of the same name or rate',
		attribute_values: 'as it is there',
		attributes_there: 'nothing',
		values_there: 'as it is here'
	};
	const unset = $derived(UNSET[setting.words] ?? 'no meaning yet');
	const EMPTY: Record<string, string> = {
		attributes_there: 'Its categories are read when it is tested; what they ask stands here.',
		places: 'It has one place alone, as its last test said.',
		values_there: 'Every value filled in is one that the channel allows.',
		attributes: 'Nothing heard yet: attributes stand here as listings are read.',
		attribute_values:
			'Nothing heard yet: values of attributes that mean something here stand here as listings are read.',
		categories: 'Nothing heard yet: its categories stand here as listings are read.',
		taxes: 'Nothing heard yet: how its goods are taxed stands here as listings are read.'
	};
	const parse = (text: string): Record<string, string> =>
		text ? (JSON.parse(text) as Record<string, string>) : {};
	const set = $derived(parse(value || inherited));
	const heard = $derived(words.filter((one) => one.sort === setting.words));
	const rows = $derived([
		...heard,
		...Object.keys(set)
			.filter((word) => !heard.some((one) => one.word === word))
			.map((word) => ({ sort: setting.words, word, proposed: '', title: '' }))
	]);
	const label = (meaning: string): string =>
		choices.find((one) => one.value === meaning)?.label ?? meaning;
	/** What a word means without a rule. */
	const usual = (proposed: string): string =>
		proposed || (setting.words === 'payment_methods' ? (setting.choices[0]?.value ?? '') : '');
	const said = (word: string): string =>
		heard.find((one) => one.word === word)?.title ||
		(isRate || (setting.words === 'taxes' && Number(word))
			? `${word} %`
			: word.replaceAll('_', ' '));

	function mean(word: string, meaning: string): void {
		const rest = Object.fromEntries(Object.entries(set).filter(([other]) => other !== word));
		onchange(JSON.stringify(meaning ? { ...rest, [word]: meaning } : rest));
	}
</script>

<div class="words">
	{#each rows as row (row.word)}
		<label
			><span>{said(row.word)}</span>
			{#if choicesOf(row.word).length}
				<select
					class="field"
					aria-label="{setting.label}: {said(row.word)}"
					{disabled}
					value={set[row.word] ?? ''}
					onchange={(event) => mean(row.word, event.currentTarget.value)}
				>
					<option value="">{label(usual(row.proposed)) || unset}</option>
					{#each choicesOf(row.word) as choice (choice.value)}{#if choice.value !== usual(row.proposed)}<option
								value={choice.value}>{choice.label}</option
							>{/if}{/each}
				</select>
			{:else}
				<input
					class="field"
					aria-label="{setting.label}: {said(row.word)}"
					{disabled}
					placeholder={UNSET[setting.words]}
					value={set[row.word] ?? ''}
					oninput={(event) => mean(row.word, event.currentTarget.value)}
				/>
			{/if}</label
		>
	{:else}<span class="soft small"
			>{EMPTY[setting.words] ?? 'Nothing heard yet: its words stand here as orders come in.'}</span
		>{/each}
</div>

<style>
	.words {
		display: grid;
		gap: 4px;
	}
	label {
		display: grid;
		grid-template-columns: minmax(90px, 1fr) 190px;
		gap: 8px;
		align-items: center;
	}
	span {
		overflow-wrap: anywhere;
	}
	.field {
		width: 100%;
	}
</style>

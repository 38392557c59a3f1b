<script lang="ts">
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { figure } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import Mark from './Mark.svelte';
	import Thumb from './Thumb.svelte';

	/** An item about to be listed: how it would look, what is asked for, what stands in the way. */
	type Props = {
		row: Schemas['PublicationRow'];
		categories: readonly Schemas['CategoryThere'][];
		may: boolean;
		isChosen: boolean;
		onpick: () => void;
	};
	let { row, categories, may, isChosen, onpick }: Props = $props();
	const isOpen = $derived(['prepared', 'refused'].includes(row.state));
	const asked = $derived(
		row.entry ? [] : (categories.find((one) => one.id === row.category)?.attributes ?? [])
	);
	const titleOf = (id: string): string => categories.find((one) => one.id === id)?.title ?? id;

	async function keep(change: {
		category?: string;
		attributes?: Record<string, string>;
	}): Promise<void> {
		try {
			await ask(
				api.PATCH('/api/v1/publications/{publication_id}', {
					params: { path: { publication_id: row.id } },
					body: { version: row.version, ...change }
				})
			);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}
	const say = (name: string, value: string): Promise<void> =>
		keep({ attributes: { ...row.attributes, [name]: value } });
</script>

<tr data-row>
	<td class="pick"
		>{#if isOpen && may}<input
				type="checkbox"
				aria-label="Choose {row.item}"
				checked={isChosen}
				onchange={onpick}
			/>{/if}</td
	>
	<td class="what"
		><div>
			<Thumb picture={row.picture} /><span
				><a class="plain-link" href="/range/items/{row.item_id}">{row.item}</a>
				<span class="soft small block">{row.sku}{row.barcode ? ` · ${row.barcode}` : ''}</span
				></span
			>
		</div></td
	>
	<td class="long"
		><b>{row.title || '–'}</b>
		{#if row.description}<span class="soft small block clip2">{row.description}</span>{/if}</td
	>
	<td class="asks">
		{#if isOpen && may}
			<select
				class="field"
				aria-label="Category of {row.item}"
				value={row.own_category}
				onchange={(event) => keep({ category: event.currentTarget.value })}
			>
				<option value=""
					>{row.category && !row.own_category
						? `by rule: ${titleOf(row.category)}`
						: 'by rule'}</option
				>
				{#each categories as one (one.id)}<option value={one.id}>{one.title}</option>{/each}
			</select>
			<div class="two">
				{#each asked as one (one.name)}
					<label class="ask"
						>{one.label}{one.required ? '' : ' (optional)'}
						{#if one.values.length}<select
								class="field"
								aria-label="{one.label} of {row.item}"
								value={row.attributes[one.name] ?? ''}
								onchange={(event) => say(one.name, event.currentTarget.value)}
							>
								<option value=""
									>{row.filled[one.name] ? `by rule: ${row.filled[one.name]}` : 'choose'}</option
								>
								{#each one.values as value (value)}<option {value}>{value}</option>{/each}
							</select>{:else}<input
								class="field"
								aria-label="{one.label} of {row.item}"
								maxlength="200"
								placeholder={row.filled[one.name] ? `by rule: ${row.filled[one.name]}` : ''}
								value={row.attributes[one.name] ?? ''}
								onchange={(event) => say(one.name, event.currentTarget.value)}
							/>{/if}</label
					>
				{/each}
			</div>
		{:else}{titleOf(row.category) ||
				'–'}{#each Object.entries( { ...row.filled, ...row.attributes } ) as [name, value] (name)}<span
					class="soft small block">{name}: {value}</span
				>{/each}{/if}
	</td>
	<td class="num">{row.price ? figure(row.price) : '–'}</td>
	<td class="stands">
		<Mark state={row.state} word={row.state === 'waiting' ? 'under way' : row.state} />
		{#each row.problems as problem (problem)}<span class="small block bad">{problem}</span>{/each}
		{#if row.state === 'refused' && row.said}<span class="small block bad">There: {row.said}</span
			>{/if}
		{#if row.listing}<span class="small block soft">as {row.listing}</span>{/if}
		{#if row.entry}<span class="small block soft">joins their entry {row.entry}</span>{/if}
	</td>
</tr>

<style>
	td {
		height: auto;
		padding-block: 8px;
		vertical-align: top;
		white-space: normal;
		overflow-wrap: anywhere;
	}
	.pick {
		width: 34px;
	}
	.num {
		white-space: nowrap;
	}
	.what {
		min-width: 230px;
	}
	.what div {
		display: flex;
		gap: 10px;
		align-items: start;
	}
	.what :global(.thumb) {
		margin-top: 0;
	}
	.asks {
		width: 330px;
	}
	.asks select {
		width: 100%;
	}
	.two {
		display: grid;
		grid-template-columns: repeat(auto-fit, minmax(130px, 1fr));
		gap: 4px 10px;
		margin-top: 5px;
	}
	.two:empty {
		display: none;
	}
	.stands {
		min-width: 170px;
	}
	.bad {
		color: var(--madder);
	}
	.clip2 {
		display: -webkit-box;
		-webkit-line-clamp: 2;
		line-clamp: 2;
		-webkit-box-orient: vertical;
		overflow: hidden;
	}
</style>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { moment } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import { Typing } from '#lib/typing.svelte.ts';
	import Overtaken from './Overtaken.svelte';
	import Pending from './Pending.svelte';
	import Rehearsal from './Rehearsal.svelte';
	import ReorderRehearsal from './ReorderRehearsal.svelte';
	import WordMap from './WordMap.svelte';

	/** What can be set for something, at every level it inherits from: what counts, who says so, and what to change. */
	type Props = {
		way: string;
		id: number | string;
		group: string;
		can?: readonly string[];
		words?: readonly Schemas['WordOut'][];
		/** What a map's words can be, where the account names it: by setting. */
		offered?: Record<string, { value: string; label: string }[]>;
		/** What one word of a map can mean, where that differs from word to word: by setting and word. */
		allowed?: Record<string, Record<string, readonly string[]>>;
	};
	let { way, id, group, can, words = [], offered = {}, allowed = {} }: Props = $props();
	type Setting = Schemas['SettingOut'];
	type Given = string | number | boolean | null;
	const path = $derived({ way, key: `${id}` });
	const found = createQuery(() => ({
		queryKey: ['settings', way, id],
		queryFn: () => ask(api.GET('/api/v1/settings/{way}/{key}', { params: { path } }))
	}));
	const data = $derived(found.data);
	let isHistory = $state(false);
	const changes = createQuery(() => ({
		queryKey: ['setting changes', way, id],
		queryFn: () => ask(api.GET('/api/v1/settings/{way}/{key}/changes', { params: { path } })),
		enabled: isHistory
	}));
	const ours = $derived(
		(changes.data ?? []).filter((one) => settings.some((each) => each.label === one.label))
	);
	const settings = $derived(
		data?.settings.filter(
			(one) => one.group === group && (!can || !one.needs || can.includes(one.needs))
		) ?? []
	);
	/** Where something of this group can be set; of several categories the nearest. */
	const levels = $derived(
		(data?.rungs ?? []).filter(
			(rung, n, all) =>
				!rung.elsewhere &&
				all.findIndex((one) => one.level === rung.level) === n &&
				settings.some((one) => one.rungs.some((each) => each.level === rung.level))
		)
	);
	let chosen = $state('');
	const level = $derived(levels.find((one) => one.level === chosen) ?? levels[0]);
	let typed = $state<Record<string, Given>>({});
	let inherit = $state<string[]>([]);
	let opened = $state('');
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
	const typing = new Typing(() => level?.version);
	const isEdited = $derived(Object.keys(typed).length > 0 || inherit.length > 0);
	const isOvertaken = $derived(isEdited && typing.isOvertaken);
	const may = $derived(settings.every((one) => session.may(one.ability)));
	/** What a change of this group is tried out on first. */
	const rehearsal = $derived(settings.find((one) => one.rehearsal)?.rehearsal ?? '');
	const change = $derived({ level: level?.level ?? '', values: typed, inherit });

	const rungOf = (one: Setting): Schemas['RungOut'] | undefined =>
		one.rungs.find((rung) => rung.level === level?.level);
	const isSet = (one: Setting): boolean =>
		one.name in typed || (!inherit.includes(one.name) && (rungOf(one)?.is_set ?? false));
	const valueOf = (one: Setting): Given =>
		one.name in typed ? (typed[one.name] ?? null) : isSet(one) ? (rungOf(one)?.value ?? null) : '';
	/** What counts when everything typed is saved: a setting may depend on another. */
	const counts = (name: string): string => {
		const one = settings.find((each) => each.name === name);
		if (!one) return '';
		return `${isSet(one) ? valueOf(one) : (rungOf(one)?.inherited_value ?? one.value)}`;
	};
	const isShown = (one: Setting): boolean =>
		!one.only_with.length || one.only_with.slice(1).includes(counts(one.only_with[0] ?? ''));

	function set(one: Setting, value: Given): void {
		typing.begin();
		if (value === '') {
			again(one);
			return;
		}
		inherit = inherit.filter((name) => name !== one.name);
		typed = { ...typed, [one.name]: value };
	}

	function again(one: Setting): void {
		typing.begin();
		typed = Object.fromEntries(Object.entries(typed).filter(([name]) => name !== one.name));
		if (rungOf(one)?.is_set && !inherit.includes(one.name)) inherit = [...inherit, one.name];
	}

	function drop(): void {
		typed = {};
		inherit = [];
		refusal = null;
		typing.end();
	}

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		try {
			await ask(
				api.PATCH('/api/v1/settings/{way}/{key}', {
					params: { path },
					body: { ...change, version: typing.version }
				})
			);
			drop();
			notices.say('Saved. What follows from it is being worked out anew.');
		} catch (error) {
			refusal = error as Problem;
		}
		busy = false;
		await changed();
	}
</script>

{#if data && level}
	<form onsubmit={save} aria-label={group}>
		{#if isOvertaken}<Overtaken onkeep={() => typing.keep()} ontake={drop} />{/if}
		{#if levels.length > 1}
			<label class="ask level"
				>Set for
				<select
					class="field"
					value={level.level}
					disabled={isEdited}
					title={isEdited ? 'Save or undo first' : undefined}
					onchange={(event) => (chosen = event.currentTarget.value)}
				>
					{#each levels as one (one.level)}<option value={one.level}
							>{one.title} ({one.level})</option
						>{/each}
				</select></label
			>
		{/if}
		<table class="rows">
			<thead
				><tr><th>Rule</th><th>Set here</th><th class="num">Counts now</th><th>Comes from</th></tr
				></thead
			>
			<tbody>
				{#each settings as one (one.name)}
					{@const rung = rungOf(one)}
					{#if rung && isShown(one)}
						<tr class:mapped={one.type === 'map'}>
							<td class="what"
								><b>{one.label}</b><span class="soft small block">{one.help}</span></td
							>
							<td class="here">
								{#if one.type === 'map'}
									<WordMap
										setting={one}
										{words}
										offered={offered[one.name]}
										allowed={allowed[one.name]}
										value={`${valueOf(one) ?? ''}`}
										inherited={`${rung.inherited_value ?? ''}`}
										disabled={!may || busy}
										onchange={(value) => set(one, value)}
									/>
								{:else if one.choices.length}
									<select
										class="field"
										aria-label={one.label}
										disabled={!may || busy}
										value={`${valueOf(one) ?? ''}`}
										onchange={(event) => set(one, event.currentTarget.value)}
									>
										<option value="">inherits: {rung.inherited}</option>
										{#each one.choices as choice (choice.value)}<option value={choice.value}
												>{choice.label}</option
											>{/each}
									</select>
								{:else if one.type === 'template'}
									<textarea
										class="field template"
										rows="2"
										maxlength="4000"
										spellcheck="false"
										aria-label={one.label}
										aria-invalid={refusal?.field === one.name}
										disabled={!may || busy}
										placeholder={rung.inherited}
										value={`${valueOf(one) ?? ''}`}
										oninput={(event) => set(one, event.currentTarget.value)}
									></textarea>
								{:else}
									<span class="amount" class:wide={one.type === 'text'}>
										<input
											class="field"
											type={['date', 'time'].includes(one.type) ? one.type : 'text'}
											inputmode={one.type === 'text' ? 'text' : 'decimal'}
											aria-label={one.label}
											aria-invalid={refusal?.field === one.name}
											disabled={!may || busy || (isSet(one) && valueOf(one) === null)}
											placeholder={rung.inherited}
											value={valueOf(one) ?? ''}
											oninput={(event) =>
												set(
													one,
													one.type === 'text'
														? event.currentTarget.value
														: event.currentTarget.value.trim()
												)}
										/>
										{#if one.limitless}<label class="tick small"
												><input
													type="checkbox"
													disabled={!may || busy}
													checked={isSet(one) && valueOf(one) === null}
													onchange={(event) =>
														event.currentTarget.checked ? set(one, null) : again(one)}
												/>
												{one.no_limit}</label
											>{/if}
									</span>
								{/if}
								{#if isSet(one) && may}<button
										type="button"
										class="link small"
										disabled={busy}
										onclick={() => again(one)}>inherit again</button
									>{/if}
							</td>
							<td class:num={one.type !== 'map'} class:meant={one.type === 'map'}>{one.said}</td>
							<td class="from">
								<button
									type="button"
									class="link"
									aria-expanded={opened === one.name}
									title="Every level"
									onclick={() => (opened = opened === one.name ? '' : one.name)}
									>{one.source}</button
								>
							</td>
						</tr>
						{#if opened === one.name}
							<tr class="steps"
								><td colspan="4">
									<ol class="ladder small" aria-label="Where {one.label} comes from">
										{#each one.rungs as each, n (n)}
											{@const isOver = one.rungs.slice(0, n).some((up) => up.is_set)}
											<li
												class:speaks={each.is_set && !isOver}
												class:overruled={each.is_set && isOver}
											>
												<span class="level-name">{each.level}</span>
												<span>{each.title}</span>
												<span class="said">{each.is_set ? each.said : 'inherits'}</span>
											</li>
										{/each}
									</ol>
								</td></tr
							>
						{/if}
					{/if}
				{/each}
			</tbody>
		</table>
		{#if may && isEdited && rehearsal === 'reorder'}
			<ReorderRehearsal {way} {id} version={typing.version} rules={change} />
		{:else if may && isEdited && rehearsal === 'shown'}<Rehearsal
				{way}
				{id}
				version={typing.version}
				rules={change}
			/>{/if}
		{#if may}
			<div class="save">
				<button class="do" disabled={!isEdited || isOvertaken || busy}>Save rules</button>
				{#if isEdited}<button type="button" class="quiet" onclick={drop}>Undo</button>{/if}
				<span class="bad" role="alert">{refusal?.message ?? ''}</span>
			</div>
		{/if}
	</form>
	<details class="history" bind:open={isHistory}>
		<summary>Who changed what</summary>
		{#if isHistory}<table class="rows" aria-label="Changes of rules">
				<tbody>
					{#each ours as one (one.id)}<tr
							><td class="soft place">{moment(one.at)}</td><td class="place">{one.by}</td><td
								>{one.label}, {one.title}</td
							><td class="long">{one.before} → <b>{one.after}</b></td></tr
						>{:else}<tr><td class="soft">{changes.data ? 'Nobody yet.' : 'Fetching…'}</td></tr
						>{/each}
				</tbody>
			</table>{/if}
	</details>
{:else}<Pending query={found} />{/if}

<style>
	.template {
		height: auto;
		width: 100%;
		min-width: 260px;
		padding-block: 6px;
		resize: vertical;
		font-family: ui-monospace, monospace;
		font-size: 13px;
	}
	.level {
		max-width: 420px;
		margin: 0 20px 8px;
	}
	.what {
		width: 38%;
		white-space: normal;
	}
	.here {
		width: 250px;
	}
	.mapped .here {
		min-width: 320px;
	}
	.mapped td {
		vertical-align: top;
		padding-top: 8px;
	}
	.meant {
		width: 200px;
		white-space: normal;
		vertical-align: top;
	}
	.amount {
		display: flex;
		gap: 10px;
		align-items: center;
	}
	.amount .field {
		width: 116px;
	}
	.amount [type='date'] {
		width: 150px;
	}
	.amount.wide .field {
		width: 100%;
	}
	.tick {
		display: flex;
		gap: 5px;
		align-items: center;
		white-space: nowrap;
		min-height: 24px;
	}
	.link {
		color: var(--reed);
		text-decoration: underline;
		text-decoration-thickness: 1px;
		text-underline-offset: 2px;
		cursor: pointer;
		min-height: 24px;
		text-align: left;
	}
	thead th {
		position: static;
	}
	.ladder {
		display: grid;
		grid-template-columns: max-content minmax(0, 1fr) max-content;
		gap: 2px 18px;
		max-width: 620px;
		padding: 2px 0 6px 14px;
		border-left: 2px solid var(--reed);
	}
	.ladder li {
		display: grid;
		grid-template-columns: subgrid;
		grid-column: 1 / -1;
		color: var(--ink-soft);
	}
	.ladder .speaks {
		color: var(--ink);
		font-weight: 600;
	}
	.ladder .overruled .said {
		text-decoration: line-through;
	}
	.steps td {
		border-top: 0;
	}
	.history {
		margin-top: 14px;
	}
	summary {
		padding: 0 20px;
		cursor: pointer;
		color: var(--reed);
	}
	.save {
		padding: 14px 20px 0;
		display: flex;
		gap: 10px;
		align-items: center;
	}
	.bad {
		color: var(--madder);
	}
</style>

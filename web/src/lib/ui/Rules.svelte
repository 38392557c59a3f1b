<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { RuleEdits } from '#lib/kit/RuleEdits.svelte.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Overtaken from './Overtaken.svelte';
	import Pending from './Pending.svelte';
	import Rehearsal from './Rehearsal.svelte';
	import ReorderRehearsal from './ReorderRehearsal.svelte';
	import RuleChanges from './RuleChanges.svelte';
	import RuleRow from './RuleRow.svelte';

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
	const path = $derived({ way, key: `${id}` });
	const found = createQuery(() => ({
		queryKey: ['settings', way, id],
		queryFn: () => ask(api.GET('/api/v1/settings/{way}/{key}', { params: { path } }))
	}));
	const data = $derived(found.data);
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
	const edits = new RuleEdits(
		() => settings,
		() => level
	);
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
	const may = $derived(settings.every((one) => session.may(one.ability)));
	const rehearsal = $derived(settings.find((one) => one.rehearsal)?.rehearsal ?? '');
	const tried = $derived({ way, id, version: edits.typing.version, rules: edits.change });

	function drop(): void {
		edits.drop();
		refusal = null;
	}

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		try {
			const body = { ...edits.change, version: edits.typing.version };
			await ask(api.PATCH('/api/v1/settings/{way}/{key}', { params: { path }, body }));
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
		{#if edits.isOvertaken}<Overtaken onkeep={() => edits.typing.keep()} ontake={drop} />{/if}
		{#if levels.length > 1}
			<label class="ask level"
				>Set for
				<select
					class="field"
					value={level.level}
					disabled={edits.isEdited}
					title={edits.isEdited ? 'Save or undo first' : undefined}
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
				{#each settings as one (one.name)}{#if edits.rungOf(one) && edits.isShown(one)}<RuleRow
							{one}
							{edits}
							{words}
							offered={offered[one.name]}
							allowed={allowed[one.name]}
							isWrong={refusal?.field === one.name}
							disabled={!may || busy}
						/>{/if}{/each}
			</tbody>
		</table>
		<!-- Above what is rehearsed: that comes a moment later, and the button stays where the hand goes. -->
		{#if may}
			<div class="save">
				<button class="do" disabled={!edits.isEdited || edits.isOvertaken || busy}
					>Save rules</button
				>
				{#if edits.isEdited}<button type="button" class="quiet" onclick={drop}>Undo</button>{/if}
				<span class="bad" role="alert">{refusal?.message ?? ''}</span>
			</div>
		{/if}
		{#if may && edits.isEdited && rehearsal === 'reorder'}<ReorderRehearsal {...tried} />
		{:else if may && edits.isEdited && rehearsal === 'shown'}<Rehearsal {...tried} />{/if}
	</form>
	<RuleChanges {way} {id} labels={settings.map((one) => one.label)} />
{:else}<Pending query={found} />{/if}

<style>
	.level {
		max-width: 420px;
		margin: 0 20px 8px;
	}
	thead th {
		position: static;
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

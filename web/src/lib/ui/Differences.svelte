<script lang="ts">
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';

	/** Where a channel says of one listing something else than we do, and the choice between the two. */
	type Props = {
		listing: number;
		version: number;
		rows: readonly Schemas['DifferenceOut'][];
		may: boolean;
		label: string;
	};
	let { listing, version, rows, may, label }: Props = $props();
	let busy = $state(false);

	/** A text in three parts: what both begin with, what differs, what both end with; by whole words. */
	function parts(text: string, other: string): [string, string, string] {
		const ours = text.split(/(?<=\s)/);
		const theirs = other.split(/(?<=\s)/);
		const most = Math.min(ours.length, theirs.length);
		let head = 0;
		while (head < most && ours[head] === theirs[head]) head += 1;
		let tail = 0;
		while (tail < most - head && ours.at(-1 - tail) === theirs.at(-1 - tail)) tail += 1;
		const end = ours.length - tail;
		return [ours.slice(0, head).join(''), ours.slice(head, end).join(''), ours.slice(end).join('')];
	}

	async function choose(
		{ field, theirs: said }: Schemas['DifferenceOut'],
		theirs: boolean
	): Promise<void> {
		busy = true;
		try {
			const done = await ask(
				api.POST('/api/v1/listings/{listing_id}/choose', {
					params: { path: { listing_id: listing } },
					body: { version, fields: [field], theirs, seen: { [field]: said } }
				})
			);
			notices.say(done.said);
		} catch (error) {
			notices.fail(error);
		}
		busy = false;
		await changed();
	}
</script>

{#snippet marked([head, middle, tail]: [string, string, string])}{head}{#if middle}<mark
			>{middle}</mark
		>{/if}{tail}{/snippet}

<table class="rows" aria-label={label}>
	<thead
		><tr><th>What</th><th>Here</th><th>There</th><th><span class="sr-only">Choice</span></th></tr
		></thead
	>
	<tbody>
		{#each rows as one (one.field)}
			<tr data-row>
				<th scope="row"
					>{one.label}<span
						class="soft small block"
						class:both={one.verdict === 'changed here and there'}>{one.verdict}</span
					></th
				>
				<td
					>{#if one.ours}{@render marked(parts(one.ours, one.theirs))}{:else}–{/if}</td
				>
				<td>{@render marked(parts(one.theirs, one.ours))}</td>
				<td class="choice">
					{#if may}
						<button
							class="quiet small"
							disabled={busy}
							aria-label="Take over {one.label}"
							onclick={() => choose(one, true)}>Take over</button
						>
						<button
							class="quiet small"
							disabled={busy}
							aria-label="Keep ours: {one.label}"
							onclick={() => choose(one, false)}>Keep ours</button
						>
					{/if}
				</td>
			</tr>
		{/each}
	</tbody>
</table>

<style>
	table {
		table-layout: fixed;
	}
	th:first-child {
		width: 130px;
		text-align: left;
	}
	td,
	th {
		white-space: pre-line;
		vertical-align: top;
		height: auto;
		padding-block: 7px;
		overflow-wrap: anywhere;
	}
	th[scope='row'] {
		font-size: inherit;
		color: var(--ink);
		border-bottom: 1px solid var(--rule);
	}
	th[scope='row'] span {
		font-weight: 400;
	}
	mark {
		background: var(--reed-tint);
		color: inherit;
	}
	th:last-child {
		width: 190px;
	}
	.choice {
		text-align: right;
		white-space: nowrap;
	}
	.both {
		color: var(--madder);
	}
</style>

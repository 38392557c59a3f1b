<script lang="ts" generics="Row">
	import { untrack } from 'svelte';
	import { Problem } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import type { SheetState, View } from '#lib/sheet.svelte.ts';
	import Dialogue from './Dialogue.svelte';

	/** Keeps what is seen under a name, and says which view a sheet opens with. */
	type Props = { sheet: SheetState<Row>; onclose: () => void };
	let { sheet, onclose }: Props = $props();
	const mine = $derived(sheet.view?.mine ? sheet.view : null);
	let name = $state('');
	let isShared = $state(untrack(() => mine?.shared ?? false));
	let refusal = $state('');
	let busy = $state(false);

	async function act(work: () => Promise<unknown>): Promise<boolean> {
		busy = true;
		refusal = '';
		try {
			await work();
			return true;
		} catch (error) {
			if (error instanceof Problem) refusal = error.message;
			else notices.fail(error);
			return false;
		} finally {
			busy = false;
		}
	}

	async function keep(over: View | null): Promise<void> {
		const isKept = await act(async () =>
			notices.say(await sheet.keep(over ? over.name : name, isShared, over))
		);
		if (isKept) onclose();
	}
</script>

<Dialogue isOpen title="Views of this sheet" {onclose}>
	<p class="soft">
		A view keeps columns, widths, order and filters as they are now, the text in the filter
		included.
	</p>
	<form
		onsubmit={(event) => {
			event.preventDefault();
			void keep(null);
		}}
	>
		<label class="ask grow"
			>Name <input
				class="field"
				maxlength="60"
				aria-invalid={refusal !== ''}
				bind:value={name}
			/></label
		>
		<button class="do" disabled={busy || !name.trim()}>Save as a new view</button>
	</form>
	<label class="share"><input type="checkbox" bind:checked={isShared} /> Share with everyone</label>
	{#if mine && (sheet.isChanged || isShared !== mine.shared)}
		<button type="button" class="quiet" disabled={busy} onclick={() => keep(mine)}
			>Save the changes to {mine.name}</button
		>
	{/if}
	{#if refusal}<p class="refusal" role="alert">{refusal}</p>{/if}
	{#if sheet.views.length}
		<ul>
			{#each sheet.views as view (view.id)}
				<li>
					<span class="name"
						>{view.name}
						<span class="soft small"
							>{view.mine ? (view.shared ? 'shared' : '') : `from ${view.owner}`}</span
						></span
					>
					<label class="small"
						><input
							type="checkbox"
							checked={sheet.opensWith === view.id}
							disabled={busy}
							onchange={(event) =>
								act(() => sheet.openWith(event.currentTarget.checked ? view : null))}
						/> Open the sheet with this view</label
					>
					{#if view.mine || session.me?.role === 'manager'}
						<button
							type="button"
							class="quiet"
							disabled={busy}
							aria-label="Delete {view.name}"
							onclick={() => act(() => sheet.takeAway(view))}>Delete</button
						>
					{/if}
				</li>
			{/each}
		</ul>
	{/if}
</Dialogue>

<style>
	form {
		display: flex;
		gap: 8px;
		align-items: end;
		margin-top: 12px;
	}
	.grow {
		flex: 1;
	}
	.share {
		display: block;
		margin: 8px 0 10px;
	}
	ul {
		margin-top: 14px;
		border-top: 1px solid var(--rule-strong);
		max-height: 40vh;
		overflow: auto;
	}
	li {
		display: flex;
		gap: 10px;
		align-items: center;
		min-height: 40px;
		border-bottom: 1px solid var(--rule);
	}
	.name {
		flex: 1;
		min-width: 0;
		overflow-wrap: anywhere;
	}
	li label {
		white-space: nowrap;
	}
</style>

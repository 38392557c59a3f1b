<script lang="ts" generics="Row">
	import { save } from '#lib/download.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import type { SheetState } from '#lib/sheet.svelte.ts';
	import ColumnChoice from './ColumnChoice.svelte';
	import ViewKeeper from './ViewKeeper.svelte';

	/** Views, columns and files of a sheet, at the end of its filter line. */
	type Props = {
		sheet: SheetState<Row>;
		hasColumns?: boolean;
		/** The kind of file that can be sent in for what the sheet shows. */
		intake?: string;
	};
	let { sheet, hasColumns = true, intake = '' }: Props = $props();
	let open = $state<'' | 'columns' | 'views'>('');
	let busy = $state('');
	const mine = $derived(sheet.views.filter((view) => view.mine));
	const theirs = $derived(sheet.views.filter((view) => !view.mine));

	// What is kept is written a moment after the last change, and only what a person changed.
	let kept = '';
	$effect(() => {
		if (!sheet.isReady) return;
		const now = JSON.stringify(sheet.habit);
		if (!kept || kept === now) {
			kept ||= now;
			return;
		}
		const soon = setTimeout(() => {
			kept = now;
			sheet.remember().catch((error: unknown) => notices.fail(error));
		}, 600);
		return () => clearTimeout(soon);
	});

	async function take(form: 'csv' | 'xlsx'): Promise<void> {
		busy = form;
		try {
			save(...(await sheet.file(form)));
		} catch (error) {
			notices.fail(error);
		}
		busy = '';
	}
</script>

<span class="tools">
	{#if sheet.views.length}<select
			class="field"
			aria-label="View"
			value={sheet.view ? String(sheet.view.id) : ''}
			onchange={(event) =>
				sheet.choose(
					sheet.views.find((view) => String(view.id) === event.currentTarget.value) ?? null
				)}
		>
			<option value="">{sheet.view ? 'default' : 'no view'}</option>
			{#if mine.length}<optgroup label="Yours"
					>{#each mine as view (view.id)}<option value={String(view.id)}
							>{view.name}{sheet.view?.id === view.id && sheet.isChanged ? ', changed' : ''}</option
						>{/each}</optgroup
				>{/if}
			{#if theirs.length}<optgroup label="Shared with you"
					>{#each theirs as view (view.id)}<option value={String(view.id)}
							>{view.name}{sheet.view?.id === view.id && sheet.isChanged ? ', changed' : ''}</option
						>{/each}</optgroup
				>{/if}
		</select>{/if}
	<button type="button" class="quiet" onclick={() => (open = 'views')}>Views</button>
	{#if hasColumns}<button type="button" class="quiet" onclick={() => (open = 'columns')}
			>Columns</button
		>{/if}
	<span
		class="files"
		role="group"
		aria-label="Take what is found as a file"
		title="Everything the filter finds, in the columns shown, as a file"
	>
		<button type="button" class="quiet" disabled={busy !== ''} onclick={() => take('csv')}
			>{busy === 'csv' ? 'Writing…' : 'CSV'}</button
		><button type="button" class="quiet" disabled={busy !== ''} onclick={() => take('xlsx')}
			>{busy === 'xlsx' ? 'Writing…' : 'XLSX'}</button
		>
	</span>
	{#if intake}<a
			class="quiet"
			href="/range/sheets?kind={intake}"
			title="Send in a CSV or a workbook; it is checked first">Import</a
		>{/if}
</span>
{#if open === 'columns'}<ColumnChoice {sheet} onclose={() => (open = '')} />{/if}
{#if open === 'views'}<ViewKeeper {sheet} onclose={() => (open = '')} />{/if}

<style>
	.tools {
		display: inline-flex;
		flex-wrap: wrap;
		gap: 8px;
		margin-left: auto;
		align-items: center;
	}
	select {
		max-width: 170px;
	}
	.files {
		display: inline-flex;
	}
	.files button:first-child {
		border-radius: 3px 0 0 3px;
	}
	/* Counting and picking on a small screen needs a view that is there, not the making of one. */
	@media (max-width: 560px) {
		.tools > :not(select) {
			display: none;
		}
		.tools {
			margin-left: 0;
		}
	}
	.files button:last-child {
		border-radius: 0 3px 3px 0;
		margin-left: -1px;
	}
</style>

<script lang="ts" generics="Row">
	import { tick } from 'svelte';
	import type { Column, SheetState } from '#lib/sheet.svelte.ts';
	import Dialogue from './Dialogue.svelte';

	/** Which columns a sheet shows, from left to right, and how wide each is. */
	type Props = { sheet: SheetState<Row>; onclose: () => void };
	let { sheet, onclose }: Props = $props();
	const shown = $derived(sheet.shown);
	const hidden = $derived(
		sheet.columns().filter((column) => !shown.some((one) => one.name === column.name))
	);
	let said = $state('');
	let list = $state<HTMLElement>();

	function move(at: number, step: number): void {
		const order = [...shown];
		const [one] = order.splice(at, 1);
		if (!one) return;
		order.splice(at + step, 0, one);
		sheet.shown = order;
		said = `${one.head} stands at place ${at + step + 1}.`;
	}

	/** The box of a column moves to the other list; the cursor goes with it. */
	async function follow(name: string): Promise<void> {
		await tick();
		list?.querySelector<HTMLInputElement>(`input[data-column="${name}"]`)?.focus();
	}

	function hide(column: Column<Row>): void {
		sheet.shown = shown.filter((one) => one.name !== column.name);
		said = `${column.head} is not shown.`;
		void follow(column.name);
	}

	function add(column: Column<Row>): void {
		sheet.shown = [...shown, { ...column, width: null }];
		said = `${column.head} is shown last.`;
		void follow(column.name);
	}
</script>

<Dialogue isOpen title="Columns" {onclose}>
	<ul bind:this={list}>
		{#each shown as column, at (column.name)}
			<li>
				<label
					><input
						type="checkbox"
						checked
						disabled={shown.length === 1}
						data-column={column.name}
						onchange={() => hide(column)}
					/>
					{column.head}</label
				>
				<input
					class="field width"
					inputmode="numeric"
					aria-label="Width of {column.head} in pixels"
					placeholder="own"
					value={column.width ?? ''}
					onchange={(event) => {
						const given = Number(event.currentTarget.value);
						sheet.widen(column.name, given > 0 ? given : null);
						event.currentTarget.value = String(
							sheet.shown.find((one) => one.name === column.name)?.width ?? ''
						);
					}}
				/>
				<button
					type="button"
					class="quiet"
					disabled={at === 0}
					aria-label="{column.head} further left"
					onclick={() => move(at, -1)}>↑</button
				>
				<button
					type="button"
					class="quiet"
					disabled={at === shown.length - 1}
					aria-label="{column.head} further right"
					onclick={() => move(at, 1)}>↓</button
				>
			</li>
		{/each}
		{#each hidden as column (column.name)}
			<li class="soft">
				<label
					><input
						type="checkbox"
						data-column={column.name}
						checked={false}
						onchange={() => add(column)}
					/>
					{column.head}</label
				>
			</li>
		{/each}
	</ul>
	<p class="soft small" role="status">
		{said || 'From left to right on the sheet. Widths in pixels; leave empty for automatic.'}
	</p>
	{#if sheet.groups.length}<label class="by"
			>Group rows by
			<select
				class="field"
				value={sheet.group ?? ''}
				onchange={(event) => sheet.groupBy(event.currentTarget.value || null)}
			>
				<option value="">nothing</option>
				{#each sheet.groups as column (column.name)}<option value={column.name}
						>{column.head}</option
					>{/each}
			</select></label
		>{/if}
	<div class="foot">
		<button type="button" class="quiet" onclick={() => (sheet.shown = [])}>Reset to default</button>
		<button type="button" class="do" onclick={onclose}>Done</button>
	</div>
</Dialogue>

<style>
	ul {
		max-height: 52vh;
		overflow: auto;
		margin: 0 -6px 8px;
		padding: 2px 6px;
	}
	li {
		display: flex;
		gap: 6px;
		align-items: center;
		min-height: 36px;
		border-bottom: 1px solid var(--rule);
	}
	label {
		flex: 1;
		cursor: pointer;
	}
	.by {
		display: flex;
		gap: 8px;
		align-items: center;
		margin-top: 10px;
	}
	.width {
		width: 64px;
		text-align: right;
	}
	li .quiet {
		padding: 3px 9px;
	}
	.foot {
		display: flex;
		justify-content: space-between;
		margin-top: 12px;
	}
</style>

<script lang="ts" generics="Row extends { fault?: string }, Key extends string | number">
	import type { Snippet } from 'svelte';
	import type { Picking } from '#lib/kit/Picking.svelte.ts';
	import type { Column, SheetState } from '#lib/sheet.svelte.ts';
	import Faulty from './Faulty.svelte';

	/** The rows of a sheet in the columns somebody chose; a head sorts, its right edge widens. */
	type Part = { key: string | number; rows: readonly Row[]; head?: Snippet };
	type Props = {
		sheet: SheetState<Row>;
		rows: readonly Row[];
		key: (row: Row) => Key;
		/** Rows under heads of their own, instead of `rows`. */
		parts?: readonly Part[];
		partHead?: Snippet<[string | number]>;
		/** Rows can be chosen: by a box before each, with Shift from one to another, all at the head. */
		picking?: Picking<Row, Key>;
		/** What stands behind it: what can be done with it. */
		after?: Snippet<[Row]>;
		isSortable?: boolean;
	};
	let { sheet, rows, key, parts, partHead, picking, after, isSortable = true }: Props = $props();
	const columns = $derived(sheet.shown);
	const grouped = $derived(sheet.group ? parted(rows) : null);
	const all = $derived<readonly Part[]>(parts ?? grouped ?? [{ key: 0, rows }]);
	const wide = $derived(columns.length + (picking ? 1 : 0) + (after ? 1 : 0));

	const every = $derived(all.flatMap((part) => part.rows));
	const chosen = $derived(picking?.standing(every) ?? 'none');

	/** The rows under each value of what the sheet is grouped by. */
	function parted(rows: readonly Row[]): Part[] {
		const found: Record<string, Row[]> = {};
		for (const row of rows) (found[sheet.groupOf(row)] ??= []).push(row);
		return Object.entries(found).map(([key, rows]) => ({ key, rows }));
	}

	const falls = (column: Column<Row>): boolean => /\bnum\b|\bday\b/.test(column.kind ?? '');
	const standing = (column: Column<Row>): 'ascending' | 'descending' | 'none' | undefined => {
		if (!isSortable || !column.sort) return undefined;
		if (sheet.sort === column.sort) return 'ascending';
		return sheet.sort === `-${column.sort}` ? 'descending' : 'none';
	};

	function grip(event: PointerEvent, name: string): void {
		const handle = event.currentTarget as HTMLElement;
		const from = (handle.closest('th') as HTMLElement).getBoundingClientRect().width;
		const start = event.clientX;
		handle.setPointerCapture(event.pointerId);
		handle.onpointermove = (moved) => sheet.widen(name, from + moved.clientX - start);
		handle.onpointerup = () => {
			handle.onpointermove = null;
		};
	}
</script>

<table class="rows">
	<thead
		><tr
			>{#if picking}<th class="pick"
					><input
						type="checkbox"
						aria-label="Choose all rows shown"
						checked={chosen === 'all'}
						indeterminate={chosen === 'some'}
						onchange={(event) => picking.set(every, event.currentTarget.checked)}
					/></th
				>{/if}{#each columns as column (column.name)}
				{@const order = standing(column)}
				<th
					class={column.kind}
					class:set={column.width}
					title={column.title}
					aria-sort={order}
					style:width={column.width ? `${column.width}px` : undefined}
					style:min-width={column.width ? `${column.width}px` : undefined}
					style:max-width={column.width ? `${column.width}px` : undefined}
					>{#if order}<button
							type="button"
							class:sorted={order !== 'none'}
							onclick={() => sheet.sortBy(column.sort ?? '', falls(column))}
							>{column.head}{#if order !== 'none'}<span
									class="way"
									class:isBefore={falls(column)}
									aria-hidden="true">{order === 'ascending' ? '↑' : '↓'}</span
								>{/if}</button
						>{:else if column.headCell}{@render column.headCell()}{:else}{column.head}{/if}<span
						class="grip"
						aria-hidden="true"
						title="Drag to resize, double-click to reset"
						onpointerdown={(event) => grip(event, column.name)}
						ondblclick={() => sheet.widen(column.name, null)}
					></span></th
				>
			{/each}{#if after}<th><span class="sr-only">Actions</span></th>{/if}</tr
		></thead
	>
	{#each all as part (part.key)}
		<tbody>
			{#if partHead}<tr class="group"><td colspan={wide}>{@render partHead(part.key)}</td></tr>
			{:else if grouped}<tr class="group"
					><td colspan={wide}
						>{part.key} <span class="soft font-normal small">{part.rows.length}</span></td
					></tr
				>{/if}
			{#each part.rows as row (key(row))}
				<tr data-row>
					{#if picking}<td class="pick"
							>{#if picking.may(row)}<input
									type="checkbox"
									aria-label={picking.label(row)}
									title="With Shift: all from the one before"
									checked={picking.has(row)}
									onclick={(event) => picking.toggle(row, every, event.shiftKey)}
								/>{/if}</td
						>{/if}
					{#each row.fault ? columns.slice(0, 1) : columns as column (column.name)}
						<td
							class={column.kind}
							class:set={column.width}
							style:max-width={column.width ? `${column.width}px` : undefined}
							>{@render column.cell?.(row)}</td
						>
					{/each}
					{#if row.fault}<Faulty said={row.fault} span={columns.length - 1 + (after ? 1 : 0)} />
					{:else if after}<td class="num">{@render after(row)}</td>{/if}
				</tr>
			{/each}
		</tbody>
	{/each}
</table>

<style>
	.pick {
		width: 34px;
	}
	th button {
		font: inherit;
		color: inherit;
		cursor: pointer;
		min-height: 24px;
		margin: -4px 0;
		position: relative;
	}
	th button:hover,
	.sorted {
		color: var(--reed);
	}
	/* Beside the words, so that a head and its figures keep their line. */
	.way {
		position: absolute;
		left: 100%;
		margin-left: 2px;
	}
	.isBefore {
		left: auto;
		right: 100%;
		margin: 0 2px 0 0;
	}
	.grip {
		position: absolute;
		top: 6px;
		bottom: 6px;
		right: 0;
		width: 7px;
		cursor: col-resize;
		touch-action: none;
	}
	.grip:hover {
		background: linear-gradient(var(--reed), var(--reed)) right / 2px 100% no-repeat;
	}
	td.set {
		overflow: hidden;
		text-overflow: ellipsis;
	}
	td.set:not(.long) {
		white-space: nowrap;
	}
	th.set {
		overflow: visible;
	}
</style>

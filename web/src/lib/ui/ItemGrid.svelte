<script lang="ts">
	import { changed } from '#lib/changes.ts';
	import { api, ask, Problem, type Schemas } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';
	import Dialogue from './Dialogue.svelte';
	import Mark from './Mark.svelte';

	/** The items of a product in a grid: changed together, and filled by paste from a spreadsheet. */
	type Item = Schemas['ProductItem'];
	type Props = { items: Item[]; may: boolean; options: string[] };
	let { items, may, options }: Props = $props();
	type Cell = 'sku' | 'price' | 'barcodes' | 'weight_grams' | 'size';
	const CELLS: readonly (readonly [Cell, string, string])[] = [
		['sku', 'SKU', ''],
		['price', 'Price', 'num'],
		['barcodes', 'Barcodes', ''],
		['weight_grams', 'Weight, g', 'num'],
		['size', 'L × W × H, mm', 'num']
	];
	let typed = $state<Record<number, Partial<Record<Cell, string> & { internal: boolean }>>>({});
	let refusal = $state<Problem | null>(null);
	let busy = $state(false);
	/** Why an item stays in use, and where that can be put right. */
	let inTheWay = $state<{ item: Item; found: Schemas['ObstacleOut'][] } | null>(null);
	const isEdited = $derived(Object.keys(typed).length > 0);
	const text = (item: Item, cell: Cell): string => {
		const own = typed[item.id]?.[cell];
		if (own !== undefined) return own;
		if (cell === 'size') return sizeOf(item);
		return cell === 'barcodes' ? item.barcodes.join(', ') : `${item[cell]}`;
	};
	const follows = (item: Item, cell: Cell): boolean =>
		cell === 'price' && item.percent_off_parts !== null;
	const SIDES = ['length_mm', 'width_mm', 'height_mm'] as const;
	const sizeOf = (item: Item): string =>
		SIDES.some((side) => item[side]) ? SIDES.map((side) => item[side]).join(' × ') : '';
	/** Three numbers with ×, x, * or spaces between; fewer leave the others at nothing. */
	const sides = (text: string): string[] => {
		const found = text.split(/[×x*\s]+/i).filter(Boolean);
		return SIDES.map((_, n) => found[n] ?? '0');
	};
	const put = (item: Item, change: Partial<Record<Cell, string> & { internal: boolean }>): void => {
		refusal = null;
		typed = { ...typed, [item.id]: { ...typed[item.id], ...change } };
	};
	const wrong = (item: Item, cell: Cell): true | undefined =>
		refusal?.field === `items.${item.id}.${cell}` ||
		(cell === 'size' && SIDES.some((side) => refusal?.field === `items.${item.id}.${side}`)) ||
		(cell === 'barcodes' && refusal?.field === `items.${item.id}.barcode`) ||
		undefined;

	/** Rows and columns as a spreadsheet copies them, filled in from the cell that has the cursor. */
	function paste(event: ClipboardEvent, row: number, column: number): void {
		const rows = (event.clipboardData?.getData('text/plain') ?? '')
			.replace(/\r?\n$/, '')
			.split(/\r?\n/)
			.map((line) => line.split('\t'));
		if (rows.length === 1 && rows[0]?.length === 1) return;
		event.preventDefault();
		rows.forEach((cells, down) =>
			cells.forEach((value, right) => {
				const item = items[row + down];
				const cell = CELLS[column + right];
				if (item && cell && !follows(item, cell[0])) put(item, { [cell[0]]: value.trim() });
			})
		);
	}

	const number = (value: string): string => value.trim().replace(',', '.');

	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		busy = true;
		refusal = null;
		const body = Object.fromEntries(
			Object.entries(typed).map(([id, own]) => {
				const item = items.find((one) => `${one.id}` === id);
				const facts: Record<string, unknown> = { version: item?.version ?? 0 };
				if (own.sku !== undefined) facts['sku'] = own.sku;
				if (own.price !== undefined) facts['price'] = number(own.price);
				if (own.weight_grams !== undefined) facts['weight_grams'] = number(own.weight_grams);
				if (own.size !== undefined)
					sides(own.size).forEach((side, n) => (facts[SIDES[n] ?? ''] = side));
				if (own.barcodes !== undefined)
					facts['barcodes'] = own.barcodes.split(/[\s,;]+/).filter(Boolean);
				if (own.internal !== undefined) facts['internal'] = own.internal;
				return [id, facts];
			})
		) as Schemas['ItemsIn']['items'];
		try {
			notices.say((await ask(api.PATCH('/api/v1/range/items', { body: { items: body } }))).said);
			typed = {};
		} catch (error) {
			if (error instanceof Problem) refusal = error;
			else notices.fail(error);
		}
		busy = false;
		await changed();
	}

	async function act(item: Item, what: 'retire' | 'bring-back' | 'delete'): Promise<void> {
		const params = { path: { item_id: item.id } };
		const body = { version: item.version };
		try {
			if (what === 'delete') {
				await ask(
					api.DELETE('/api/v1/range/items/{item_id}', {
						params: { ...params, query: { version: item.version } }
					})
				);
				notices.say(`${item.title} is deleted.`);
			} else if (what === 'retire') {
				const found = await ask(api.GET('/api/v1/items/{item_id}/obstacles', { params }));
				if (found.length) inTheWay = { item, found };
				else
					notices.say(
						(await ask(api.POST('/api/v1/items/{item_id}/retire', { params, body }))).said
					);
			} else
				notices.say(
					(await ask(api.POST('/api/v1/items/{item_id}/bring-back', { params, body }))).said
				);
		} catch (error) {
			notices.fail(error);
		}
		await changed();
	}
</script>

<form onsubmit={save} aria-label="Items">
	<table class="rows cells">
		<thead
			><tr
				><th>{options.join(' · ') || 'Item'}</th>{#each CELLS as [cell, head, kind] (cell)}<th
						class={kind}>{cell === 'price' ? `${head} ${session.currency}` : head}</th
					>{/each}<th>Internal only</th><th>State</th><th><span class="sr-only">Actions</span></th
				></tr
			></thead
		>
		<tbody>
			{#each items as item, row (item.id)}
				<tr data-row class:retired={!item.active}>
					<td
						><a class="plain-link" href="/range/items/{item.id}"
							>{Object.values(item.options).join(' · ') || item.title}</a
						></td
					>
					{#each CELLS as [cell, head, kind], column (cell)}
						<td class={kind}
							><input
								class="field {cell} {kind}"
								aria-label="{head} of {item.sku}"
								aria-invalid={wrong(item, cell)}
								disabled={!may || busy || follows(item, cell)}
								title={follows(item, cell) ? 'It costs what its parts do' : undefined}
								value={text(item, cell)}
								onpaste={(event) => paste(event, row, column)}
								oninput={(event) => put(item, { [cell]: event.currentTarget.value })}
							/></td
						>
					{/each}
					<td
						><input
							type="checkbox"
							aria-label="{item.sku} is internal only"
							disabled={!may || busy}
							checked={typed[item.id]?.internal ?? item.internal}
							onchange={(event) => put(item, { internal: event.currentTarget.checked })}
						/></td
					>
					<td
						><Mark
							state={item.active ? 'live' : 'closed'}
							word={item.active ? 'in use' : 'retired'}
						/></td
					>
					<td class="does">
						{#if may}
							{#if item.active}<button
									type="button"
									class="quiet"
									onclick={() => act(item, 'retire')}>Retire</button
								>{:else}<button type="button" class="quiet" onclick={() => act(item, 'bring-back')}
									>Bring back</button
								>
								<button type="button" class="quiet" onclick={() => act(item, 'delete')}
									>Delete</button
								>{/if}
						{/if}
					</td>
				</tr>
			{/each}
		</tbody>
	</table>
	{#if may}
		<div class="save">
			<button class="do" disabled={!isEdited || busy}>Save items</button>
			{#if isEdited}<button type="button" class="quiet" onclick={() => (typed = {})}>Undo</button
				>{/if}
			<span class="bad" role="alert">{refusal?.message ?? ''}</span>
			{#if !refusal}<span class="soft small"
					>Rows copied from a spreadsheet can be pasted into any cell.</span
				>{/if}
		</div>
	{/if}
</form>
<Dialogue
	isOpen={inTheWay !== null}
	title="{inTheWay?.item.title ?? ''} cannot be retired yet"
	onclose={() => (inTheWay = null)}
>
	<ul>
		{#each inTheWay?.found ?? [] as one (one.said)}<li>
				{one.said}{#if one.link}&nbsp;<a href={one.link}>Go there</a>{/if}
			</li>{/each}
	</ul>
</Dialogue>

<style>
	.cells {
		width: auto;
		min-width: 60%;
	}
	.cells .field {
		width: 124px;
	}
	.cells .field.num {
		width: 80px;
		text-align: right;
	}
	.cells .field.size {
		width: 116px;
	}
	.cells .field.barcodes {
		width: 146px;
	}
	.retired td {
		color: var(--ink-soft);
	}
	.does {
		white-space: nowrap;
	}
	.save {
		padding: 0 20px;
		display: flex;
		gap: 10px;
		align-items: center;
		margin-top: 12px;
	}
	.bad {
		color: var(--madder);
	}
</style>

import { expect, test, vi } from 'vitest';
import { SheetState, withIds, type Column } from '../src/lib/sheet.svelte.ts';

type Row = { title: string; place: string };
const columns: Column<Row>[] = [
	{ name: 'title', head: 'Item', sort: 'title' },
	{ name: 'place', head: 'Location', sort: 'location', isGroup: true },
	{ name: 'spare', head: 'Spare', isSpare: true }
];
vi.stubGlobal('fetch', () => Promise.reject(new Error('there is no server here')));
const sheet = async (): Promise<SheetState<Row, 'q' | 'state'>> => {
	const made = new SheetState<Row, 'q' | 'state'>('things', 'Things', () => columns, {
		q: '',
		state: 'open'
	});
	await made.opened;
	return made;
};

test('comes with its columns and its filters, whether or not the server can say how it was last', async () => {
	const made = await sheet();
	expect(made.shown.map((one) => one.name)).toEqual(['title', 'place']);
	expect(made.query).toEqual({ state: 'open' });
});

test('grouped rows are sorted by what they are grouped by', async () => {
	const made = await sheet();
	made.groupBy('place');
	expect(made.query.sort).toBe('location');
	expect(made.groupOf({ title: 'Smoker', place: 'Mill Lane' })).toBe('Mill Lane');
	expect(made.groupOf({ title: 'Smoker', place: '' })).toBe('none');
	made.sortBy('location', false);
	expect([made.group, made.query.sort]).toEqual(['place', '-location']);
	made.sortBy('title', false);
	expect([made.group, made.query.sort]).toEqual([null, 'title']);
	made.groupBy('title');
	expect(made.group).toBeNull();
});

test('a view keeps columns, widths, order, filters and groups; what was looked for in passing is no habit', async () => {
	const made = await sheet();
	made.filters.q = 'smoker';
	made.groupBy('place');
	made.widen('title', 5);
	const kept = made.settings;
	expect(kept.columns).toEqual([
		{ name: 'title', width: 40 },
		{ name: 'place', width: null }
	]);
	expect(made.habit.filters).toEqual({ state: 'open' });
	const other = await sheet();
	other.take(kept);
	expect(other.settings).toEqual(kept);
	expect(other.query).toEqual({ q: 'smoker', state: 'open', sort: 'location' });
});

test('ids in a query are numbers, and left out where nothing is chosen', () => {
	expect(withIds({ q: 'x', item: '7', place: '' }, 'item', 'place')).toEqual({ q: 'x', item: 7 });
});

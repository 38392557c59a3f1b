import { beforeEach, expect, test } from 'vitest';
import { Picking } from '../src/lib/kit/Picking.svelte.ts';

type Row = { id: number; sold: boolean };
const rows: Row[] = [1, 2, 3, 4, 5].map((id) => ({ id, sold: id !== 4 }));
let picking: Picking<Row>;
const row = (id: number): Row => rows[id - 1] as Row;

beforeEach(() => {
	picking = new Picking<Row>(
		(one) => one.id,
		(one) => `Choose ${one.id}`,
		(one) => one.sold
	);
});

test('one by one', () => {
	picking.toggle(row(2), rows, false);
	picking.toggle(row(5), rows, false);
	picking.toggle(row(2), rows, false);
	expect(picking.keys).toEqual([5]);
});

test('from one to another, in either direction, without those that cannot be chosen', () => {
	picking.toggle(row(5), rows, false);
	picking.toggle(row(2), rows, true);
	expect(picking.keys.sort()).toEqual([2, 3, 5]);
	picking.toggle(row(3), rows, true);
	expect(picking.keys).toEqual([5]);
});

test('a range whose beginning is out of sight is one row', () => {
	picking.toggle(row(1), rows, false);
	picking.toggle(row(5), rows.slice(2), true);
	expect(picking.keys.sort()).toEqual([1, 5]);
});

test('the box at the head knows all, some and none', () => {
	expect(picking.standing(rows)).toBe('none');
	picking.set(rows, true);
	expect(picking.standing(rows)).toBe('all');
	expect(picking.size).toBe(4);
	picking.toggle(row(1), rows, false);
	expect(picking.standing(rows)).toBe('some');
	expect(picking.standing([])).toBe('none');
	picking.clear();
	expect(picking.rows).toEqual([]);
});

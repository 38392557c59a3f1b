import { QueryObserver } from '@tanstack/svelte-query';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { ask } from '../src/lib/api/client.ts';
import { Changes } from '../src/lib/changes.ts';

let counts: Record<string, number>;
let changes: Changes;
const read: string[] = [];

/** An answer of the API that was read from these tables. */
const answer = (data: string, ...tables: string[]): Promise<string> =>
	ask(
		Promise.resolve({
			data,
			response: new Response(null, { headers: { 'X-Reads': tables.join(' ') } })
		})
	);

/** A part of a page that shows the answer as long as the test lasts. */
async function show(key: string, ...tables: string[]): Promise<void> {
	const queryFn = (): Promise<string> => {
		read.push(key);
		return answer(key, ...tables);
	};
	const observer = new QueryObserver(changes, { queryKey: [key], queryFn });
	observer.subscribe(() => undefined);
	await changes.fetchQuery({ queryKey: [key], queryFn });
}

beforeEach(async () => {
	counts = { orders: 1, items: 1, moves: 1 };
	changes = new Changes(() => Promise.resolve({ ...counts }));
	await changes.look();
	await show('order page', 'orders', 'items');
	await show('shelf', 'moves');
	read.length = 0;
});
afterEach(() => changes.clear());

test('nothing written, nothing read', async () => {
	await changes.look();
	expect(read).toEqual([]);
});

test('what was written to is read anew, and nothing else', async () => {
	counts.items = 2;
	await changes.look();
	expect(read).toEqual(['order page']);
	await changes.look();
	expect(read).toEqual(['order page']);
});

test('counts that begin anew are a change as well', async () => {
	counts = { orders: 0, items: 0, moves: 0 };
	await changes.look();
	expect(read.sort()).toEqual(['order page', 'shelf']);
});

test('a look asked for while another is under way is made after it', async () => {
	const first = changes.look();
	counts.moves = 2;
	const second = changes.look();
	await Promise.all([first, second]);
	expect(read).toEqual(['shelf']);
});

test('what is written while an answer is on its way is read once more', async () => {
	let arrive = (): void => undefined;
	const queryFn = (): Promise<string> => {
		read.push('slow');
		const data = `slow ${read.length}`;
		const response = new Response(null, { headers: { 'X-Reads': 'moves' } });
		return ask(new Promise((resolve) => (arrive = () => resolve({ data, response }))));
	};
	const observer = new QueryObserver(changes, { queryKey: ['slow'], queryFn });
	observer.subscribe(() => undefined);
	counts.moves = 2;
	await changes.look();
	expect(read.sort()).toEqual(['shelf', 'slow']);
	arrive();
	await vi.waitFor(() => expect(read.sort()).toEqual(['shelf', 'slow', 'slow']));
	arrive();
	await vi.waitFor(() => expect(observer.getCurrentResult().data).toBe('slow 3'));
	await changes.look();
	expect(read).toHaveLength(3);
});

test('nothing is asked for before it is known what had been written', async () => {
	let tell = (): void => undefined;
	changes = new Changes(() => new Promise((resolve) => (tell = () => resolve({ ...counts }))));
	const shown = show('early', 'moves');
	await Promise.resolve();
	expect(read).toEqual([]);
	tell();
	await shown;
	expect(read).toEqual(['early']);
});

test('one that could not look is followed by one that can', async () => {
	let isAway = true;
	const flaky = new Changes(() =>
		isAway ? Promise.reject(new Error('away')) : Promise.resolve({ orders: 1 })
	);
	await expect(flaky.look()).rejects.toThrow('away');
	isAway = false;
	await expect(flaky.look()).resolves.toBeUndefined();
});

test('what was refused is asked again when what it was read from is written to', async () => {
	const refuse = (): Promise<string> => {
		read.push('refused');
		const headers = { 'X-Reads': 'moves' };
		return ask(Promise.resolve({ response: new Response(null, { status: 404, headers }) }));
	};
	const refused = { queryKey: ['refused'], queryFn: refuse };
	new QueryObserver(changes, refused).subscribe(() => undefined);
	await expect(changes.fetchQuery(refused)).rejects.toThrow('The server answered 404.');
	read.length = 0;
	counts.items = 2;
	await changes.look();
	expect(read).toEqual(['order page']);
	counts.moves = 2;
	await changes.look();
	expect(read.sort()).toEqual(['order page', 'refused', 'shelf']);
});

test('what is only tried out is not tried out anew, refused or not', async () => {
	// A rehearsal is a POST: it says nothing of what it was read from, and writes nothing that stays.
	await show('rehearsal');
	const refuse = (): Promise<string> => {
		read.push('refused');
		return ask(Promise.resolve({ response: new Response(null, { status: 422 }) }));
	};
	const refused = { queryKey: ['refused'], queryFn: refuse };
	new QueryObserver(changes, refused).subscribe(() => undefined);
	await expect(changes.fetchQuery(refused)).rejects.toThrow('The server answered 422.');
	read.length = 0;
	counts.moves = 2;
	await changes.look();
	expect(read).toEqual(['shelf']);
});

test('while the server cannot be reached it is asked again soon, else once a minute or not at all', async () => {
	const queryFn = (): Promise<string> => ask(Promise.reject(new TypeError('fetch failed')));
	const away = { queryKey: ['away'], queryFn, retry: false };
	await expect(changes.fetchQuery(away)).rejects.toThrow('The server does not answer.');
	await show('rehearsal');
	const every = changes.getDefaultOptions().queries?.refetchInterval as (query: unknown) => unknown;
	const asked = (key: string): unknown => every(changes.getQueryCache().find({ queryKey: [key] }));
	expect([asked('away'), asked('shelf'), asked('rehearsal')]).toEqual([2000, 60_000, false]);
});

import { expect, test, vi } from 'vitest';
import { Problem } from '../src/lib/api/client.ts';
import { changes } from '../src/lib/changes.ts';
import { FormState } from '../src/lib/kit/FormState.svelte.ts';

type Terms = { name: string; days: string };
let version = 3;
const form = (): FormState<Terms> =>
	new FormState<Terms>(
		() => ({ name: 'Joinery', days: '7' }),
		() => version
	);

test('what is typed stands over what is on the page', () => {
	const one = form();
	expect(one.isEdited).toBe(false);
	one.set({ days: '9' });
	expect(one.value).toEqual({ name: 'Joinery', days: '9' });
	one.drop();
	expect(one.value.days).toBe('7');
	expect(one.isEdited).toBe(false);
});

test('a refusal stands at its field, and what was typed stays', async () => {
	const one = form();
	one.set({ days: '-1' });
	const done = await one.send(() => Promise.reject(new Problem(422, 'At least 0.', 'days')));
	expect(done).toBeUndefined();
	expect([one.wrong('days'), one.wrong('name')]).toEqual([true, undefined]);
	expect(one.value.days).toBe('-1');
	one.set({ days: '1' });
	expect(one.wrong('days')).toBeUndefined();
	expect(await one.send(() => Promise.resolve('kept'))).toBe('kept');
	expect(one.isEdited).toBe(false);
});

test('it is sent with the version that was looked at, and says when that went by', () => {
	const one = form();
	one.set({ days: '9' });
	version = 4;
	expect(one.version).toBe(3);
	expect(one.isOvertaken).toBe(true);
});

test('what is typed after it was kept is typed over the page as it is by then', async () => {
	version = 3;
	const one = form();
	// Reading the page anew takes a moment, and brings the version that was written.
	const look = vi.spyOn(changes, 'look').mockImplementation(async () => {
		await new Promise((resolve) => setTimeout(resolve, 5));
		version = 4;
	});
	one.set({ days: '9' });
	await one.send(() => Promise.resolve('kept'));
	one.set({ days: '11' });
	expect([one.version, one.isOvertaken]).toEqual([4, false]);
	look.mockRestore();
});

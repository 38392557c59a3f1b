import { beforeEach, expect, test } from 'vitest';
import type { Schemas } from '../src/lib/api/client.ts';
import { RuleEdits } from '../src/lib/kit/RuleEdits.svelte.ts';

type Setting = Schemas['SettingOut'];
const level = { level: 'item', title: 'Smoker', version: 3, elsewhere: false };
let now: typeof level;

/** A setting that is set on the item or inherits, and may have a meaning beside another alone. */
function setting(name: string, value: string | null, only_with: string[] = []): Setting {
	const rung = {
		level: 'item',
		title: 'Smoker',
		is_set: value !== null,
		value,
		inherited_value: 'theirs',
		inherited: 'theirs',
		said: value ?? 'theirs'
	};
	return { name, label: name, value: 'theirs', only_with, rungs: [rung] } as unknown as Setting;
}

const basis = setting('basis', null);
const days = setting('days', '14', ['basis', 'projected']);
let edits: RuleEdits;

beforeEach(() => {
	now = { ...level };
	edits = new RuleEdits(
		() => [basis, days],
		() => now as unknown as Schemas['LevelOut']
	);
});

test('what is kept stands there until something is typed', () => {
	expect([edits.valueOf(days), edits.valueOf(basis)]).toEqual(['14', '']);
	expect([edits.isSet(days), edits.isSet(basis), edits.isEdited]).toEqual([true, false, false]);
	edits.set(basis, 'available');
	expect([edits.valueOf(basis), edits.isSet(basis), edits.isEdited]).toEqual([
		'available',
		true,
		true
	]);
	expect(edits.change).toEqual({ level: 'item', values: { basis: 'available' }, inherit: [] });
});

test('a value taken away inherits again, and can be set once more', () => {
	edits.set(days, '');
	expect([edits.isSet(days), edits.change.inherit]).toEqual([false, ['days']]);
	edits.set(days, null);
	expect([edits.valueOf(days), edits.change.inherit]).toEqual([null, []]);
	// What was never set has nothing to inherit again.
	edits.again(basis);
	expect(edits.change.inherit).toEqual([]);
});

test('a setting is shown beside the values it has a meaning with, typed ones too', () => {
	expect([edits.isShown(basis), edits.isShown(days)]).toEqual([true, false]);
	edits.set(basis, 'projected');
	expect(edits.isShown(days)).toBe(true);
	edits.drop();
	expect([edits.isShown(days), edits.isEdited]).toEqual([false, false]);
});

test('what somebody else saved meanwhile is pointed out', () => {
	edits.set(basis, 'projected');
	expect([edits.isOvertaken, edits.typing.version]).toEqual([false, 3]);
	now.version = 4;
	expect([edits.isOvertaken, edits.typing.version]).toEqual([true, 3]);
	edits.typing.keep();
	expect([edits.isOvertaken, edits.typing.version]).toEqual([false, 4]);
});

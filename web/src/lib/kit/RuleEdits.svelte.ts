import type { Schemas } from '#lib/api/client.ts';
import { Typing } from '#lib/typing.svelte.ts';

type Setting = Schemas['SettingOut'];
export type Given = string | number | boolean | null;

/** What somebody has typed at one level of a group of rules, beside what is kept there. */
export class RuleEdits {
	typed = $state<Record<string, Given>>({});
	inherit = $state<string[]>([]);
	readonly typing: Typing;
	readonly isEdited = $derived(Object.keys(this.typed).length > 0 || this.inherit.length > 0);
	readonly change = $derived.by(() => ({
		level: this.level()?.level ?? '',
		values: this.typed,
		inherit: this.inherit
	}));

	constructor(
		readonly settings: () => readonly Setting[],
		readonly level: () => Schemas['LevelOut'] | undefined
	) {
		this.typing = new Typing(() => this.level()?.version);
	}

	get isOvertaken(): boolean {
		return this.isEdited && this.typing.isOvertaken;
	}

	rungOf(one: Setting): Schemas['RungOut'] | undefined {
		return one.rungs.find((rung) => rung.level === this.level()?.level);
	}

	isSet(one: Setting): boolean {
		return (
			one.name in this.typed ||
			(!this.inherit.includes(one.name) && (this.rungOf(one)?.is_set ?? false))
		);
	}

	valueOf(one: Setting): Given {
		if (one.name in this.typed) return this.typed[one.name] ?? null;
		return this.isSet(one) ? (this.rungOf(one)?.value ?? null) : '';
	}

	/** What counts when everything typed is saved: a setting may depend on another. */
	#counts(name: string): string {
		const one = this.settings().find((each) => each.name === name);
		if (!one) return '';
		return `${this.isSet(one) ? this.valueOf(one) : (this.rungOf(one)?.inherited_value ?? one.value)}`;
	}

	/** Whether a setting has any meaning beside what the others say. */
	isShown(one: Setting): boolean {
		const [other, ...values] = one.only_with;
		return other === undefined || values.includes(this.#counts(other));
	}

	/** Nothing typed inherits again. */
	set(one: Setting, value: Given): void {
		if (value === '') {
			this.again(one);
			return;
		}
		this.typing.begin();
		this.inherit = this.inherit.filter((name) => name !== one.name);
		this.typed = { ...this.typed, [one.name]: value };
	}

	/** Let it inherit again. */
	again(one: Setting): void {
		this.typing.begin();
		this.typed = Object.fromEntries(
			Object.entries(this.typed).filter(([name]) => name !== one.name)
		);
		if (this.rungOf(one)?.is_set && !this.inherit.includes(one.name))
			this.inherit = [...this.inherit, one.name];
	}

	drop(): void {
		this.typed = {};
		this.inherit = [];
		this.typing.end();
	}
}

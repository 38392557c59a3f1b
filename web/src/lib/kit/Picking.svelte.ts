import { SvelteMap } from 'svelte/reactivity';

/** Which rows of a sheet somebody chose, also those that are no longer in sight; one by one, or from one to another. */
export class Picking<Row, Key extends string | number = number> {
	readonly #rows = new SvelteMap<Key, Row>();
	/** The row that was touched last: where a range begins. */
	#from: Key | null = null;

	constructor(
		readonly key: (row: Row) => Key,
		/** What the box before a row says. */
		readonly label: (row: Row) => string,
		readonly may: (row: Row) => boolean = () => true
	) {}

	get size(): number {
		return this.#rows.size;
	}

	get keys(): Key[] {
		return [...this.#rows.keys()];
	}

	get rows(): Row[] {
		return [...this.#rows.values()];
	}

	has(row: Row): boolean {
		return this.#rows.has(this.key(row));
	}

	set(rows: readonly Row[], isPicked: boolean): void {
		for (const row of rows.filter(this.may))
			if (isPicked) this.#rows.set(this.key(row), row);
			else this.#rows.delete(this.key(row));
	}

	/** Turns one; in a range all between it and the one touched before become what it becomes. */
	toggle(row: Row, among: readonly Row[], isRange: boolean): void {
		const keys = among.map(this.key);
		const from = isRange && this.#from !== null ? keys.indexOf(this.#from) : -1;
		const to = keys.indexOf(this.key(row));
		const meant =
			from < 0 || to < 0 ? [row] : among.slice(Math.min(from, to), Math.max(from, to) + 1);
		this.set(meant, !this.has(row));
		this.#from = this.key(row);
	}

	/** All of these, some of them, or none. */
	standing(rows: readonly Row[]): 'all' | 'some' | 'none' {
		const able = rows.filter(this.may);
		const chosen = able.filter((row) => this.has(row)).length;
		return !chosen ? 'none' : chosen === able.length ? 'all' : 'some';
	}

	clear(): void {
		this.#rows.clear();
		this.#from = null;
	}
}

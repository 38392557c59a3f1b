import type { Snippet } from 'svelte';
import { api, ask, type Schemas } from '#lib/api/client.ts';

export type Settings = Schemas['SheetSettings'];
export type View = Schemas['ViewOut'];

/** A field of a row as it goes into a file, and its head there. */
export type Field = readonly [field: string, head: string];

/** Where a cell shows an item with its number, a file has both. */
export const ITEM_FIELDS: readonly Field[] = [
	['title', 'Item'],
	['sku', 'SKU']
];

export type Column<Row> = {
	name: string;
	head: string;
	/** None where a sheet draws its rows itself; then the column is there for files alone. */
	cell?: Snippet<[Row]>;
	/** Instead of the words at its head. */
	headCell?: Snippet;
	/** Classes of its cells and its head: num, long, clip, place. */
	kind?: string;
	title?: string;
	/** What the server sorts by, where it can. */
	sort?: string;
	/** Rows can stand under its values; it has to be one that is sorted by. */
	isGroup?: boolean;
	/** What it puts into a file; of itself the field of its own name. */
	fields?: readonly Field[];
	/** Comes only when somebody asks for it. */
	isSpare?: boolean;
};

type Asked = Pick<URLSearchParams, 'has' | 'get'>;
/** Filters that belong to the moment: a text, one item, a past day. */
const PASSING: ReadonlySet<string> = new Set(['q', 'item', 'as_at']);
type Wanted = { name: string; width: number | null };

/** How somebody looks at a sheet: columns, widths, order, filters; kept for the person, and under names. */
export class SheetState<Row, Filter extends string = string> {
	filters = $state({}) as Record<Filter, string>;
	sort = $state('');
	/** The column whose values the rows stand under; none where they follow each other. */
	group = $state<string | null>(null);
	views = $state.raw<View[]>([]);
	opensWith = $state<number | null>(null);
	/** The view that was chosen last, whatever was changed since. */
	view = $state<View | null>(null);
	/** False until it is known how the person had it. */
	isReady = $state(false);
	#wanted = $state<Wanted[]>([]);
	/** Done when it is known how the person had it. */
	readonly opened: Promise<void>;

	constructor(
		readonly name: string,
		readonly title: string,
		readonly columns: () => readonly Column<Row>[],
		readonly plain: Readonly<Record<Filter, string>>,
		asked?: Asked
	) {
		this.filters = { ...plain };
		this.opened = this.#open(asked);
	}

	/** The columns that are shown, from left to right; those it comes with where nobody chose. */
	get shown(): readonly (Column<Row> & { width: number | null })[] {
		const known = this.columns();
		const chosen = this.#wanted.flatMap(({ name, width }) => {
			const column = known.find((one) => one.name === name);
			return column ? [{ ...column, width }] : [];
		});
		return chosen.length
			? chosen
			: known.filter((one) => !one.isSpare).map((column) => ({ ...column, width: null }));
	}

	set shown(columns: readonly { name: string; width: number | null }[]) {
		this.#wanted = columns.map(({ name, width }) => ({ name, width }));
	}

	/** As it would be kept under a name. */
	get settings(): Settings {
		return {
			columns: this.#wanted.map((one) => ({ ...one })),
			sort: this.sort,
			filters: this.#narrowed(),
			group: this.group
		};
	}

	/** As it is kept from one visit to the next: what was looked for in passing is not. */
	get habit(): Settings {
		const filters = Object.entries(this.#narrowed()).filter(([name]) => !PASSING.has(name));
		return { ...this.settings, filters: Object.fromEntries(filters) };
	}

	#narrowed(): Record<string, string> {
		return Object.fromEntries(Object.entries<string>(this.filters).filter(([, value]) => value));
	}

	/** True when what is seen is no longer what the view keeps. */
	get isChanged(): boolean {
		return this.view !== null && !same(this.settings, this.view.settings);
	}

	/** What the server is asked for: filters that say something, and the order. */
	get query(): Partial<Record<Filter, string>> & { sort?: string } {
		return {
			...(this.#narrowed() as Partial<Record<Filter, string>>),
			...(this.sort ? { sort: this.sort } : {})
		};
	}

	/** The columns that rows can stand under. */
	get groups(): readonly Column<Row>[] {
		return this.columns().filter((one) => one.isGroup && one.sort);
	}

	/** Rows of one value follow each other, so a sheet is sorted by what it is grouped by. */
	groupBy(name: string | null): void {
		const column = this.groups.find((one) => one.name === name);
		this.group = column?.name ?? null;
		this.sort = column?.sort ?? '';
	}

	/** What stands over the rows of a value. */
	groupOf(row: Row): string {
		const value = (row as Record<string, unknown>)[this.group ?? ''];
		return value ? String(value).replaceAll('_', ' ') : 'none';
	}

	sortBy(sort: string, isFallingFirst: boolean): void {
		const grouped = this.groups.find((one) => one.name === this.group);
		if (grouped?.sort !== sort) this.group = null;
		const [first, second] = isFallingFirst ? [`-${sort}`, sort] : [sort, `-${sort}`];
		this.sort = this.sort === first ? second : this.sort === second ? '' : first;
	}

	widen(name: string, width: number | null): void {
		this.shown = this.shown.map((one) =>
			one.name === name
				? { ...one, width: width && Math.round(Math.min(900, Math.max(40, width))) }
				: one
		);
	}

	take(settings: Settings | undefined): void {
		this.#wanted = (settings?.columns ?? []).map(({ name, width }) => ({
			name,
			width: width ?? null
		}));
		this.sort = settings?.sort ?? '';
		this.group = settings?.group ?? null;
		// A view without a filter shows everything; the sheet as it comes has its own.
		const empty = Object.fromEntries(Object.keys(this.plain).map((name) => [name, '']));
		this.filters = settings
			? ({ ...empty, ...settings.filters } as Record<Filter, string>)
			: { ...this.plain };
	}

	choose(view: View | null): void {
		this.view = view;
		this.take(view?.settings);
	}

	async #open(asked: Asked | undefined): Promise<void> {
		const given = Object.keys(this.plain).filter((name) => asked?.has(name));
		try {
			const found = await this.#fetch();
			const view = found.views.find((one) => one.id === found.opens_with) ?? null;
			this.view = given.length ? null : view;
			this.take(this.view?.settings ?? found.last ?? undefined);
			if (!given.length)
				this.view ??= found.views.find((one) => same(one.settings, this.settings)) ?? null;
		} catch {
			// The sheet can be read as it comes; its rows say what is wrong, if anything is.
		}
		// A link says what it wants to show.
		if (given.length)
			this.filters = {
				...this.plain,
				...Object.fromEntries(given.map((name) => [name, asked?.get(name) ?? '']))
			};
		this.isReady = true;
	}

	async #fetch(): Promise<Schemas['SheetOut']> {
		const found = await ask(
			api.GET('/api/v1/sheets/{sheet}', { params: { path: { sheet: this.name } } })
		);
		this.views = found.views;
		this.opensWith = found.opens_with ?? null;
		return found;
	}

	async remember(): Promise<void> {
		await ask(
			api.PUT('/api/v1/sheets/{sheet}/last', {
				params: { path: { sheet: this.name } },
				body: this.habit
			})
		);
	}

	/** Keeps what is seen: under a new name, or as a view of one's own that it replaces. */
	async keep(name: string, isShared: boolean, over: View | null): Promise<string> {
		const body = { name, shared: isShared, settings: this.settings, version: over?.version ?? 0 };
		const path = { sheet: this.name };
		const { said, id } = await ask(
			over
				? api.PUT('/api/v1/sheets/{sheet}/views/{view_id}', {
						params: { path: { ...path, view_id: over.id } },
						body
					})
				: api.POST('/api/v1/sheets/{sheet}/views', { params: { path }, body })
		);
		await this.#fetch();
		this.view = this.views.find((one) => one.id === id) ?? null;
		return said;
	}

	async takeAway(view: View): Promise<void> {
		await ask(
			api.DELETE('/api/v1/sheets/{sheet}/views/{view_id}', {
				params: { path: { sheet: this.name, view_id: view.id } }
			})
		);
		await this.#fetch();
		if (this.view?.id === view.id) this.view = null;
	}

	async openWith(view: View | null): Promise<void> {
		await ask(
			api.PUT('/api/v1/sheets/{sheet}/opens-with', {
				params: { path: { sheet: this.name } },
				body: { view: view?.id ?? null }
			})
		);
		this.opensWith = view?.id ?? null;
	}

	/** Everything the filters find, in the columns that are shown: the file and its name. */
	async file(form: 'csv' | 'xlsx'): Promise<[Blob, string]> {
		const fields = this.shown.flatMap(
			(column) => column.fields ?? [[column.name, column.head] as const]
		);
		const call = api.POST('/api/v1/sheets/{sheet}/file', {
			params: { path: { sheet: this.name } },
			body: {
				form,
				title: this.title,
				columns: fields.map(([field, head]) => ({ field, head })),
				sort: this.sort,
				filters: this.#narrowed()
			},
			parseAs: 'blob'
		});
		const found = (await ask(call)) as unknown as Blob;
		const named = (await call).response.headers.get('Content-Disposition');
		return [found, /filename="([^"]+)"/.exec(named ?? '')?.[1] ?? `${this.title}.${form}`];
	}
}

/** A query whose ids are numbers, as the routes declare them; one that is empty is left out. */
export function withIds<Q extends Record<string, string | undefined>, K extends keyof Q>(
	query: Q,
	...names: K[]
): Omit<Q, K> & Partial<Record<K, number>> {
	const ids = names.filter((name) => query[name]).map((name) => [name, Number(query[name])]);
	const others = Object.entries(query).filter(([name]) => !names.includes(name as K));
	return Object.fromEntries([...others, ...ids]) as Omit<Q, K> & Partial<Record<K, number>>;
}

/** The same columns, order and filters, in whatever order the filters were written down. */
export function same(one: Settings, other: Settings): boolean {
	return told(one) === told(other);
}

function told(settings: Settings): string {
	const columns = (settings.columns ?? []).map(({ name, width }) => [name, width ?? null]);
	const filters = Object.entries(settings.filters ?? {}).sort(([a], [b]) => a.localeCompare(b));
	return JSON.stringify([columns, settings.sort ?? '', filters, settings.group ?? null]);
}

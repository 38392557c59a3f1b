import { QueryClient } from '@tanstack/svelte-query';
import { api, ask, Problem } from '#lib/api/client.ts';
import { collect } from '#lib/api/reads.ts';

/** How often it is asked what changed; the whole of what pages do to stay up to date. */
const EVERY = 2000;
/** What only time changes (how long ago, how far behind) is read anew this often. */
const SELDOM = 60_000;

type Defaulted = ReturnType<QueryClient['defaultQueryOptions']>;

/** The server could not be reached: what is asked for is asked for again until it can. */
const isUnanswered = (error: unknown): boolean => error instanceof Problem && error.status === 0;

type Counts = Readonly<Record<string, number>>;

/** Remembers for each query which tables its answers were read from, and reads anew those that were written to since. */
export class Changes extends QueryClient {
	#reads = new Map<string, Set<string>>();
	/** What had been written when a query was last asked for: its answer holds at least that. */
	#asOf = new Map<string, Counts | null>();
	#watched = new WeakSet<object>();
	#counts: Counts | null = null;
	#first: Promise<void> | undefined;
	#turn: Promise<void> = Promise.resolve();

	constructor(
		readonly fetchCounts: () => Promise<Record<string, number>> = () =>
			ask(api.GET('/api/v1/changes'))
	) {
		super({
			defaultOptions: {
				queries: {
					staleTime: 2000,
					refetchInterval: (query) =>
						isUnanswered(query.state.error) ? EVERY : this.#of(query.queryHash).size > 0 && SELDOM,
					retry: (failures, error) =>
						failures < 1 && !(error instanceof Problem && error.status > 0)
				}
			}
		});
		// Every query passes here: what it asks for is noted under its key.
		const plain = this.defaultQueryOptions.bind(this);
		this.defaultQueryOptions = ((options: Parameters<typeof plain>[0]) =>
			this.#watch(plain(options))) as typeof this.defaultQueryOptions;
	}

	#watch<Options extends Defaulted>(options: Options): Options {
		const fetch = options.queryFn;
		if (typeof fetch !== 'function' || this.#watched.has(fetch)) return options;
		const hash = options.queryHash;
		const watched: typeof fetch = async (context) => {
			// Nothing is asked for before it is known what had been written by then.
			if (!this.#counts) await (this.#first ??= this.look().catch(() => undefined));
			this.#asOf.set(hash, this.#counts);
			try {
				return await collect(this.#of(hash), () => fetch(context));
			} finally {
				// What was written while it was on its way may not be in it.
				if (this.#isBehind(hash)) setTimeout(() => void this.#again());
			}
		};
		this.#watched.add(watched);
		return { ...options, queryFn: watched };
	}

	#of(hash: string): Set<string> {
		const known = this.#reads.get(hash) ?? new Set<string>();
		this.#reads.set(hash, known);
		return known;
	}

	/** Asks what was written since the last time, and reads that anew; done when it is on the page. */
	look(): Promise<void> {
		this.#turn = this.#turn.then(
			() => this.#look(),
			() => this.#look()
		);
		return this.#turn;
	}

	async #look(): Promise<void> {
		this.#counts = await this.fetchCounts();
		await this.#again();
	}

	/** Reads anew what is behind. */
	#again(): Promise<void> {
		return this.invalidateQueries({ predicate: (query) => this.#isBehind(query.queryHash) });
	}

	/** Whether something it was read from has been written to since. What is only tried out, as a rehearsal, was read from
	 * nothing: it is tried out anew when something else is asked, not when somebody else changes something. A refusal says
	 * what it was read from, as any answer. */
	#isBehind(hash: string): boolean {
		const [now, then] = [this.#counts, this.#asOf.get(hash)];
		if (!now || now === then) return false;
		return [...this.#of(hash)].some((table) => now[table] !== then?.[table]);
	}

	/** Goes on looking while somebody looks at the page; gives back how to end it. */
	follow(isWanted: () => boolean = () => !document.hidden): () => void {
		let timer: ReturnType<typeof setTimeout> | undefined;
		let isOver = false;
		const go = async (): Promise<void> => {
			// Who does not answer now may answer the next time; the pages say it themselves.
			if (isWanted()) await this.look().catch(() => undefined);
			if (!isOver) timer = setTimeout(() => void go(), EVERY);
		};
		void go();
		return () => {
			isOver = true;
			clearTimeout(timer);
		};
	}
}

export const changes = new Changes();

/** After something was done: what it changed is read anew. */
export const changed = (): Promise<void> => changes.look().catch(() => undefined);

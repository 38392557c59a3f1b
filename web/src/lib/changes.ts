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

/** Remembers for each query which tables its answers were read from, and reads anew those that were written to. */
export class Changes extends QueryClient {
	#reads = new Map<string, Set<string>>();
	#watched = new WeakSet<object>();
	#counts: Readonly<Record<string, number>> | null = null;
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
		const into = this.#of(options.queryHash);
		const watched: typeof fetch = (context) => collect(into, () => fetch(context));
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
		const now = await this.fetchCounts();
		const before = this.#counts;
		this.#counts = now;
		if (!before) return;
		const changed = new Set(Object.keys(now).filter((table) => now[table] !== before[table]));
		if (changed.size)
			await this.invalidateQueries({
				predicate: (query) => this.#hangsOn(query.queryHash, changed)
			});
	}

	/** What is only tried out, as a rehearsal, was read from nothing: it is tried out anew when something else is asked, not
	 * when somebody else changes something. A refusal says what it was read from, as any answer. */
	#hangsOn(hash: string, changed: ReadonlySet<string>): boolean {
		return [...this.#of(hash)].some((table) => changed.has(table));
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

/** What is being asked for at this moment notes here which tables its answers were read from. */
let collecting: Set<string> | null = null;

/** Does the work; what it asks for at once, before it waits for anything, notes its tables in `into`. */
export function collect<T>(into: Set<string>, work: () => T): T {
	const outer = collecting;
	collecting = into;
	try {
		return work();
	} finally {
		collecting = outer;
	}
}

/** Where to note what an answer was read from, for who has asked just now. */
export function noteHere(): (response: Response) => void {
	const into = collecting;
	return (response) => {
		for (const table of response.headers.get('X-Reads')?.split(' ') ?? [])
			if (table) into?.add(table);
	};
}

/** Which version of a document somebody began to type over; the page itself goes on being renewed. */
export class Typing {
	#since = $state<number | null>(null);
	#now: () => number | undefined;

	constructor(now: () => number | undefined) {
		this.#now = now;
	}

	/** The version to save against: the one that was on the page when typing began. */
	get version(): number {
		return this.#since ?? this.#now() ?? 0;
	}

	/** Whether somebody else has saved since. */
	get isOvertaken(): boolean {
		return this.#since !== null && this.#since !== this.#now();
	}

	/** Something was typed. */
	begin(): void {
		this.#since ??= this.#now() ?? null;
	}

	/** Save over what stands there now. */
	keep(): void {
		this.#since = this.#now() ?? null;
	}

	/** Nothing is typed any more. */
	end(): void {
		this.#since = null;
	}
}

import { beforeNavigate } from '$app/navigation';
import { Problem } from '#lib/api/client.ts';
import { changed } from '#lib/changes.ts';
import { notices } from '#lib/notice.svelte.ts';
import { Typing } from '#lib/typing.svelte.ts';

/** What somebody types into a form over what stands on the page: changes, refusals by field, a version that went by. */
export class FormState<T extends object> {
	typed = $state<Partial<T>>({});
	refusal = $state<Problem | null>(null);
	busy = $state(false);
	readonly typing: Typing;

	constructor(
		readonly now: () => T,
		version: () => number | undefined = () => undefined
	) {
		this.typing = new Typing(version);
	}

	/** What is on the page with what was typed over it. */
	get value(): T {
		return { ...this.now(), ...this.typed };
	}

	get isEdited(): boolean {
		return Object.keys(this.typed).length > 0;
	}

	get isOvertaken(): boolean {
		return this.isEdited && this.typing.isOvertaken;
	}

	get version(): number {
		return this.typing.version;
	}

	set(change: Partial<T>): void {
		this.typing.begin();
		this.refusal = null;
		this.typed = { ...this.typed, ...change };
	}

	wrong(field: string): true | undefined {
		return this.refusal?.field === field || undefined;
	}

	drop(): void {
		this.typed = {};
		this.refusal = null;
		this.typing.end();
	}

	/** Does the work; what is refused stands at its field, and what was typed stays. */
	async send<R>(work: () => Promise<R>): Promise<R | undefined> {
		this.busy = true;
		this.refusal = null;
		try {
			const found = await work();
			// What is typed next is typed over the page as it is by now, and is not taken for overtaken.
			await changed();
			this.drop();
			return found;
		} catch (error) {
			if (error instanceof Problem) this.refusal = error;
			else notices.fail(error);
			return undefined;
		} finally {
			this.busy = false;
		}
	}

	/** Asks before what was typed is left behind; to be called while a component begins. */
	guard(): this {
		beforeNavigate((way) => {
			if (this.isEdited && !this.busy && !confirm('Leave without saving what you typed?'))
				way.cancel();
		});
		return this;
	}
}

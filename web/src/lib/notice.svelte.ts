import { Problem } from '#lib/api/client.ts';

/** `undo`: takes back what was done, while the note stands. */
type Note = { id: number; text: string; bad: boolean; undo?: () => unknown };

/** What was done or refused, in a sentence, at the foot of the page. */
class Notices {
	list = $state<Note[]>([]);
	#next = 1;

	say(text: string, bad = false, undo?: () => unknown): void {
		const id = this.#next++;
		this.list = [...this.list, { id, text, bad, undo }];
		setTimeout(() => this.drop(id), bad || undo ? 12000 : 6000);
	}

	/** Take back the newest of what can be taken back. */
	undoNewest(): boolean {
		const note = this.list.findLast((one) => one.undo);
		if (note) this.undo(note);
		return !!note;
	}

	undo(note: Note): void {
		this.drop(note.id);
		note.undo?.();
	}

	fail(error: unknown): void {
		const text = error instanceof Problem || error instanceof Error ? error.message : String(error);
		this.say(text, true);
	}

	drop(id: number): void {
		this.list = this.list.filter((note) => note.id !== id);
	}
}

export const notices = new Notices();

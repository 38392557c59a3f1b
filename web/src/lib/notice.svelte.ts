import { Problem } from '#lib/api/client.ts';

type Note = { id: number; text: string; bad: boolean };

/** What was done or refused, in a sentence, at the foot of the page. */
class Notices {
	list = $state<Note[]>([]);
	#next = 1;

	say(text: string, bad = false): void {
		const id = this.#next++;
		this.list = [...this.list, { id, text, bad }];
		setTimeout(() => this.drop(id), bad ? 12000 : 6000);
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

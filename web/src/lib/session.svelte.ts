import { api, ask, lost, type Schemas } from '#lib/api/client.ts';
import { tellTimesIn } from '#lib/format.ts';

/** Who is signed in. */
class Session {
	me = $state<Schemas['Me'] | null>(null);
	known = $state(false);

	async load(): Promise<void> {
		try {
			this.meet(await ask(api.GET('/api/v1/session')));
		} catch {
			this.me = null;
		}
		this.known = true;
	}

	async signIn(username: string, password: string): Promise<void> {
		this.meet(await ask(api.POST('/api/v1/session', { body: { username, password } })));
	}

	private meet(me: Schemas['Me']): void {
		tellTimesIn(me.time_zone);
		this.me = me;
	}

	async signOut(): Promise<void> {
		await ask(api.DELETE('/api/v1/session'));
		this.me = null;
	}

	/** The currency the books are kept in. */
	get currency(): string {
		return this.me?.currency ?? '';
	}

	may(ability: Schemas['Me']['may'][number]): boolean {
		return this.me?.may.includes(ability) ?? false;
	}
}

export const session = new Session();
// Signed out elsewhere, or for too long: back to the door, and after it to where one was.
lost.call = () => {
	session.me = null;
};

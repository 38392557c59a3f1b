import { api, ask, type Schemas } from '#lib/api/client.ts';

/** Who is signed in. */
class Session {
	me = $state<Schemas['Me'] | null>(null);
	known = $state(false);

	async load(): Promise<void> {
		try {
			this.me = await ask(api.GET('/api/v1/session'));
		} catch {
			this.me = null;
		}
		this.known = true;
	}

	async signIn(username: string, password: string): Promise<void> {
		this.me = await ask(api.POST('/api/v1/session', { body: { username, password } }));
	}

	async signOut(): Promise<void> {
		await ask(api.DELETE('/api/v1/session'));
		this.me = null;
	}

	may(ability: string): boolean {
		return this.me?.may.includes(ability) ?? false;
	}
}

export const session = new Session();

import createClient from 'openapi-fetch';
import { noteHere } from './reads.ts';
import type { components, paths } from './schema.d.ts';

export type Schemas = components['schemas'];

/** What the server said when it refused: a sentence, and the field to mend. */
export class Problem extends Error {
	constructor(
		readonly status: number,
		detail: string,
		readonly field = ''
	) {
		super(detail);
	}
}

function cookie(name: string): string {
	const found = document.cookie.split('; ').find((part) => part.startsWith(`${name}=`));
	return found ? decodeURIComponent(found.slice(name.length + 1)) : '';
}

export const api = createClient<paths>({ baseUrl: '', credentials: 'same-origin' });

/** Called when the server no longer knows who asks; the session sets it. */
export const lost = { call: (): void => undefined };

/** Whether somebody touched the page of late: one that only keeps itself up to date does not keep a session alive. */
let touched = 0;
const LATELY = 60_000;
if (typeof window !== 'undefined')
	for (const event of ['pointerdown', 'keydown', 'wheel'])
		window.addEventListener(event, () => (touched = Date.now()), { passive: true, capture: true });

api.use({
	onResponse({ response, schemaPath }) {
		if (response.status === 401 && schemaPath !== '/api/v1/session') lost.call();
	},
	onRequest({ request }) {
		if (Date.now() - touched < LATELY) request.headers.set('X-Active', '1');
		if (request.method !== 'GET') {
			request.headers.set('X-CSRFToken', cookie('csrftoken'));
		}
		return request;
	}
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer; throws a Problem in the server's own words. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
	const note = noteHere();
	let answer: Answer<T>;
	try {
		answer = await call;
	} catch {
		throw new Problem(
			0,
			'The server does not answer. Is it running? What you typed is still here.'
		);
	}
	note(answer.response);
	if (answer.response.ok) return answer.data as T;
	const said = (answer.error ?? {}) as { detail?: string; field?: string };
	throw new Problem(
		answer.response.status,
		said.detail ?? `The server answered ${answer.response.status}.`,
		said.field
	);
}

/** A key that makes a repeated POST harmless; one for each thing the person sets out to do. */
export function onceKey(): string {
	return crypto.randomUUID();
}

<script lang="ts">
	import { goto } from '$app/navigation';
	import { api, ask } from '#lib/api/client.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { STATIONS } from '#lib/stations.ts';
	import Dialogue from './Dialogue.svelte';

	/** Takes verbs: "receive PO 1042", "find smoker", "go buying", "order WS-20486". */
	type Props = { isOpen: boolean; onclose: () => void };
	let { isOpen, onclose }: Props = $props();
	let text = $state('');
	let said = $state('');

	async function run(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const [verb = '', ...rest] = text.trim().split(/\s+/);
		const what = rest.join(' ');
		try {
			const path = await pathFor(verb.toLowerCase(), what);
			if (!path) {
				said = 'I know: go, find, order, receive. For example: find smoker.';
				return;
			}
			text = '';
			said = '';
			onclose();
			await goto(path);
		} catch (error) {
			notices.fail(error);
		}
	}

	async function pathFor(verb: string, what: string): Promise<string> {
		if (verb === 'go') {
			const station = STATIONS.find((s) => s.name.toLowerCase().startsWith(what.toLowerCase()));
			return station?.path ?? '';
		}
		if (verb === 'find') return `/range?q=${encodeURIComponent(what)}`;
		if (verb === 'order') {
			const found = await ask(
				api.GET('/api/v1/orders', { params: { query: { q: what, limit: 1 } } })
			);
			return found.rows[0]
				? `/orders/${found.rows[0].id}`
				: `/orders?q=${encodeURIComponent(what)}`;
		}
		if (verb === 'receive') {
			const number = what.replace(/^po[\s-]*/i, 'PO-');
			const found = await ask(
				api.GET('/api/v1/purchase-orders', { params: { query: { q: number, limit: 1 } } })
			);
			if (found.rows[0]) return `/buying/orders/${found.rows[0].id}`;
			throw new Error(`There is no purchase order ${number}.`);
		}
		return '';
	}
</script>

<Dialogue {isOpen} {onclose} title="What shall we do?">
	<form onsubmit={run}>
		<!-- svelte-ignore a11y_autofocus (the dialogue is opened to type into it) -->
		<input
			class="field w-full"
			aria-label="Command"
			placeholder="receive PO 1042 · find smoker · go buying · order WS-20486"
			bind:value={text}
			autofocus
		/>
		<p class="soft" role="status">{said}</p>
	</form>
</Dialogue>

<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';

	/** Groups of an account's customers: who each is here, and the list whose prices it is shown. What a choice would do
	is told before it is kept. */
	type Group = Schemas['ChannelGroupOut'];
	type Choice = { of: Group; group_id: number | null; price_list_id: number | null };
	type Props = { connection: number; mayRead: boolean };
	let { connection, mayRead }: Props = $props();
	const params = $derived({ path: { connection_id: connection } });
	const groups = createQuery(() => ({
		queryKey: ['channel groups', connection],
		queryFn: () => ask(api.GET('/api/v1/connections/{connection_id}/groups', { params }))
	}));
	const may = $derived(session.may('change prices'));
	let chosen = $state<Choice | null>(null);
	let told = $state<Schemas['GroupRehearsalOut'] | null>(null);
	let refusal = $state('');
	let busy = $state(false);

	const at = (one: Group): Choice =>
		chosen?.of.id === one.id
			? chosen
			: { of: one, group_id: one.group_id, price_list_id: one.price_list_id };
	const body = (choice: Choice): Schemas['ChannelGroupIn'] => ({
		version: choice.of.version,
		group_id: choice.group_id,
		price_list_id: choice.price_list_id
	});

	async function work(doing: () => Promise<void>): Promise<void> {
		busy = true;
		refusal = '';
		try {
			await doing();
		} catch (error) {
			refusal = (error as Error).message;
		}
		busy = false;
	}
	const choose = (one: Group, change: Partial<Choice>): Promise<void> =>
		work(async () => {
			chosen = { ...at(one), ...change };
			told = null;
			told = await ask(
				api.POST('/api/v1/channel-groups/{group_id}/rehearsal', {
					params: { path: { group_id: one.id } },
					body: body(chosen)
				})
			);
		});
	const drop = (): void => {
		chosen = told = null;
		refusal = '';
	};
	const keep = (): Promise<void> =>
		work(async () => {
			if (!chosen) return;
			const path = { group_id: chosen.of.id };
			await ask(
				api.PUT('/api/v1/channel-groups/{group_id}', { params: { path }, body: body(chosen) })
			);
			drop();
			notices.say('Saved. What it is shown is being worked out anew.');
			await changed();
		});
	const read = (): Promise<void> =>
		work(async () => {
			const found = await ask(api.POST('/api/v1/connections/{connection_id}/groups', { params }));
			notices.say(
				found.groups.length
					? `${count(found.groups.length, 'group')} there.`
					: 'The account has no groups of customers.'
			);
			await changed();
		});
	const number = (value: string): number | null => (value ? Number(value) : null);
	const shown = (one: Group): string => {
		const words = ['agreed', 'pending', 'drifting', 'held'].filter((state) => one.counts[state]);
		return words.map((state) => `${one.counts[state]} ${state}`).join(', ');
	};
</script>

<div class="groups">
	<div class="head">
		<h3>Customer groups there</h3>
		{#if mayRead}<button class="quiet small" disabled={busy} onclick={read}
				>Read from the account</button
			>{/if}
	</div>
	{#if groups.data?.groups.length}
		<table class="rows" aria-label="Customer groups there">
			<thead
				><tr
					><th>Group there</th><th>Group here</th><th>Price list</th><th>Prices of its own</th></tr
				></thead
			>
			<tbody>
				{#each groups.data.groups as one (one.id)}
					<tr data-row>
						<td class="place">{one.title}</td>
						<td
							><select
								class="field"
								aria-label="Group here of {one.title}"
								disabled={!may || busy}
								value={`${at(one).group_id ?? ''}`}
								onchange={(event) => choose(one, { group_id: number(event.currentTarget.value) })}
							>
								<option value="">none</option>
								{#each groups.data.ours as ours (ours.id)}<option value={`${ours.id}`}
										>{ours.name}</option
									>{/each}
							</select></td
						>
						<td
							><select
								class="field"
								aria-label="Price list of {one.title}"
								disabled={!may || busy}
								value={`${at(one).price_list_id ?? ''}`}
								onchange={(event) =>
									choose(one, { price_list_id: number(event.currentTarget.value) })}
							>
								<option value="">{one.group_id ? 'that of the group here' : 'none'}</option>
								{#each groups.data.lists as list (list.id)}<option value={`${list.id}`}
										>{list.name}</option
									>{/each}
							</select></td
						>
						<td class="soft long"
							>{shown(one) ||
								(one.speaks.length
									? 'none: its list names nothing that is listed'
									: 'none: it sees what everybody does')}</td
						>
					</tr>
					{#if chosen?.of.id === one.id}
						<tr class="tell"
							><td colspan="4">
								{#if told && !told.kept_here}<span
										>Prices of this connection are not kept here, so none is shown from here yet.</span
									>
								{:else if told}<span
										><b>{count(told.listings, 'price')}</b> of its own for {one.title}; {told.changing}
										would be other than now{#if told.below}; <b class="bad"
												>{told.below} below the margin floor and not shown</b
											>{/if}.</span
									>{:else if busy}<span class="soft">Working it out…</span>{/if}
								<button class="do" disabled={busy || !told} onclick={keep}>Save</button>
								<button class="quiet" disabled={busy} onclick={drop}>Leave as it is</button>
							</td></tr
						>
					{/if}
				{/each}
			</tbody>
		</table>
	{:else if groups.data}<p class="soft">
			None are known yet{mayRead ? ': read them from the account' : ''}. A group that a list speaks
			for is shown that list’s prices; what the list does not name, it sees as everybody does.
		</p>{/if}
	<p class="bad" role="alert">{refusal}</p>
</div>

<style>
	.groups {
		padding: 12px 0 10px;
	}
	.head {
		display: flex;
		gap: 12px;
		align-items: center;
		padding: 0 20px 4px;
	}
	p {
		padding: 0 20px;
	}
	.tell td {
		background: var(--reed-tint);
	}
	.tell button {
		margin-left: 12px;
	}
	.bad {
		color: var(--madder);
	}
</style>

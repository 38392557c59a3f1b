<script lang="ts">
	import { createQuery, useQueryClient } from '@tanstack/svelte-query';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';

	/** Groups of customers and the price list each is given. */
	type Group = Schemas['CustomerGroupOut'];
	const client = useQueryClient();
	const groups = createQuery(() => ({
		queryKey: ['customer groups'],
		queryFn: () => ask(api.GET('/api/v1/customer-groups'))
	}));
	const lists = createQuery(() => ({
		queryKey: ['price lists'],
		queryFn: () => ask(api.GET('/api/v1/price-lists'))
	}));
	const choices = $derived((lists.data?.rows ?? []).filter((one) => !one.base));
	const may = $derived(session.may('change prices'));
	let fresh = $state('');
	let refusal = $state('');

	async function act(work: () => Promise<unknown>): Promise<void> {
		refusal = '';
		try {
			await work();
			notices.say('Saved.');
			fresh = '';
		} catch (error) {
			refusal = (error as Error).message;
		}
		await client.invalidateQueries();
	}
	const give = (group: Group, list: string): Promise<void> =>
		act(() =>
			ask(
				api.PUT('/api/v1/customer-groups/{group_id}', {
					params: { path: { group_id: group.id } },
					body: {
						version: group.version,
						name: group.name,
						price_list_id: list ? Number(list) : null
					}
				})
			)
		);
	function add(event: SubmitEvent): void {
		event.preventDefault();
		void act(() => ask(api.POST('/api/v1/customer-groups', { body: { version: 0, name: fresh } })));
	}
</script>

<table class="rows" aria-label="Groups">
	<thead><tr><th>Group</th><th>Price list</th><th class="num">In it</th></tr></thead>
	<tbody>
		{#each groups.data ?? [] as group (group.id)}
			<tr
				><td class="long">{group.name}</td><td
					><select
						class="field"
						aria-label="Price list of {group.name}"
						disabled={!may}
						value={`${group.price_list_id ?? ''}`}
						onchange={(event) => give(group, event.currentTarget.value)}
					>
						<option value="">the base prices</option>
						{#each choices as one (one.id)}<option value={`${one.id}`}>{one.name}</option>{/each}
					</select></td
				><td class="num">{count(group.customers, 'customer')}</td></tr
			>
		{:else}<tr><td colspan="3" class="soft">No group yet.</td></tr>{/each}
	</tbody>
</table>
{#if may}<form onsubmit={add} aria-label="New group">
		<input
			class="field"
			aria-label="Name of a new group"
			placeholder="Trade, members, staff …"
			maxlength="80"
			bind:value={fresh}
		/>
		<button class="do" disabled={!fresh.trim()}>Add the group</button>
	</form>{/if}
<p class="bad" role="alert">{refusal}</p>

<style>
	form {
		display: flex;
		gap: 10px;
		margin-top: 14px;
	}
	.bad {
		color: var(--madder);
	}
</style>

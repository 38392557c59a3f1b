<script lang="ts">
	import { createQuery } from '@tanstack/svelte-query';
	import { changed } from '#lib/changes.ts';
	import { api, ask, type Schemas } from '#lib/api/client.ts';
	import { count } from '#lib/format.ts';
	import { notices } from '#lib/notice.svelte.ts';
	import { session } from '#lib/session.svelte.ts';

	/** Groups of customers and the price list each is given. */
	type Group = Schemas['CustomerGroupOut'];
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
		await changed();
	}
	const keep = (group: Group, change: Partial<Schemas['CustomerGroupIn']>): Promise<void> =>
		act(() =>
			ask(
				api.PUT('/api/v1/customer-groups/{group_id}', {
					params: { path: { group_id: group.id } },
					body: { version: group.version, name: group.name, ...change }
				})
			)
		);
	const LIMITS = [
		['order_minimum', 'Minimum per order'],
		['order_step', 'In steps of'],
		['order_maximum', 'Maximum per order']
	] as const;
	function add(event: SubmitEvent): void {
		event.preventDefault();
		void act(() => ask(api.POST('/api/v1/customer-groups', { body: { version: 0, name: fresh } })));
	}
</script>

<table class="rows" aria-label="Groups">
	<thead
		><tr
			><th>Group</th><th>Price list</th>{#each LIMITS as [name, label] (name)}<th class="num"
					>{label}</th
				>{/each}<th class="num">In it</th></tr
		></thead
	>
	<tbody>
		{#each groups.data ?? [] as group (group.id)}
			<tr
				><td class="long">{group.name}</td><td
					><select
						class="field"
						aria-label="Price list of {group.name}"
						disabled={!may}
						value={`${group.price_list_id ?? ''}`}
						onchange={(event) =>
							keep(group, {
								price_list_id: event.currentTarget.value ? Number(event.currentTarget.value) : null
							})}
					>
						<option value="">the base prices</option>
						{#each choices as one (one.id)}<option value={`${one.id}`}>{one.name}</option>{/each}
					</select></td
				>{#each LIMITS as [name, label] (name)}<td class="num"
						><input
							class="field count"
							inputmode="decimal"
							aria-label="{label}, {group.name}"
							placeholder="as all"
							disabled={!may}
							value={group[name] ?? ''}
							onchange={(event) =>
								keep(group, { [name]: event.currentTarget.value.trim() || null })}
						/></td
					>{/each}<td class="num">{count(group.customers, 'customer')}</td></tr
			>
		{:else}<tr><td colspan="6" class="soft">No group yet.</td></tr>{/each}
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
<p class="soft note">
	Minimum, steps and maximum are units of a thing in one order of a shop that knows the group; an
	empty field leaves what holds for all.
</p>
<p class="bad" role="alert">{refusal}</p>

<style>
	.note {
		margin-top: 10px;
	}
	.count {
		width: 92px;
		text-align: right;
	}
	form {
		display: flex;
		gap: 10px;
		margin-top: 14px;
	}
	.bad {
		color: var(--madder);
	}
</style>

<script lang="ts" generics="T extends { accounts: Record<string, string> }">
	import type { FormState } from '#lib/kit/FormState.svelte.ts';

	/** Which account of the outside ledger each of ours is. */
	type Props = { form: FormState<T>; accounts: readonly string[][] };
	let { form, accounts }: Props = $props();
	const mapped = $derived(form.value.accounts);
	const roles = $derived(
		Object.keys(mapped).sort((a, b) => (mapped[a] ?? '').localeCompare(mapped[b] ?? ''))
	);
	const choose = (role: string, code: string): void =>
		form.set({ accounts: { ...mapped, [role]: code } } as Partial<T>);
</script>

<div class="mapping">
	<h2>Account mapping</h2>
	<div class="accounts">
		{#each roles as role (role)}
			<label class="ask"
				>{role.replaceAll('_', ' ')}
				<select
					class="field"
					value={mapped[role]}
					onchange={(event) => choose(role, event.currentTarget.value)}
				>
					{#if !mapped[role]}<option value="">not mapped</option>{/if}
					{#each accounts.length ? accounts : [[mapped[role] ?? '', 'run the test to see names']] as account (account[0])}
						<option value={account[0]}>{account[0]} {account[1]}</option>
					{/each}
				</select></label
			>
		{/each}
	</div>
</div>

<style>
	.mapping {
		grid-column: span 2;
	}
	.accounts {
		display: grid;
		grid-template-columns: repeat(auto-fill, minmax(210px, 1fr));
		gap: 8px 14px;
		margin-top: 10px;
	}
</style>

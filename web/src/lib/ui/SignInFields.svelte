<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';

	/** What an account asks for to sign in: a kind says what that is; secrets are typed and never shown again. */
	type Props = {
		entries: readonly Schemas['SignInEntryOut'][];
		/** What is kept already and is no secret. */
		kept?: Readonly<Record<string, string>>;
		given: Record<string, string>;
		wrong?: string | undefined;
		isNew?: boolean;
		/** What is left empty is taken from elsewhere. */
		isOptional?: boolean;
		onchange: (given: Record<string, string>) => void;
	};
	let {
		entries,
		kept = {},
		given,
		wrong = '',
		isNew = false,
		isOptional = false,
		onchange
	}: Props = $props();
	const id = $props.id();
</script>

{#each entries as entry (entry.name)}
	<div>
		<label class="ask"
			>{isNew || !entry.secret ? entry.label : `New ${entry.label.toLowerCase()}`}
			<input
				class="field"
				required={isNew && !isOptional && !entry.optional}
				maxlength="300"
				type={entry.secret ? 'password' : 'text'}
				autocomplete="off"
				placeholder={isOptional
					? 'as there, at the same address'
					: isNew || !entry.secret
						? ''
						: 'unchanged; type to replace'}
				aria-invalid={wrong === `sign_in.${entry.name}`}
				aria-describedby={isNew ? `${id}-${entry.name}` : undefined}
				value={given[entry.name] ?? (entry.secret ? '' : (kept[entry.name] ?? ''))}
				oninput={(event) => onchange({ ...given, [entry.name]: event.currentTarget.value })}
			/></label
		>
		{#if isNew}<p id="{id}-{entry.name}" class="soft small">{entry.help}</p>{/if}
	</div>
{/each}

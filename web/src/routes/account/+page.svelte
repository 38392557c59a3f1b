<script lang="ts">
	import { session } from '#lib/session.svelte.ts';
	import OpenSessions from '#lib/ui/OpenSessions.svelte';
	import PasswordForm from '#lib/ui/PasswordForm.svelte';
	import Sheet from '#lib/ui/Sheet.svelte';
	import Thing from '#lib/ui/Thing.svelte';
	import Tokens from '#lib/ui/Tokens.svelte';
</script>

<Sheet question="Who may act in your name?">
	{#snippet lead()}{session.me?.name}, {session.me?.role} at {session.me?.company}.{/snippet}
	<Thing>
		<OpenSessions />
		<Tokens />
		{#snippet side()}<PasswordForm />{/snippet}
	</Thing>
</Sheet>

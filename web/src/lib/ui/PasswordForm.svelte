<script lang="ts">
	import { api, ask } from '#lib/api/client.ts';
	import Field from '#lib/kit/Field.svelte';
	import { FormState } from '#lib/kit/FormState.svelte.ts';
	import SaveLine from '#lib/kit/SaveLine.svelte';
	import { notices } from '#lib/notice.svelte.ts';

	/** One's own password. */
	const form = new FormState(() => ({ old: '', new: '' }));
	async function save(event: SubmitEvent): Promise<void> {
		event.preventDefault();
		const done = await form.send(() =>
			ask(api.PUT('/api/v1/account/password', { body: form.value }))
		);
		if (done) notices.say(done.said);
	}
</script>

<section aria-label="Password">
	<h2>Password</h2>
	<form onsubmit={save}>
		<Field
			{form}
			name="old"
			label="Your password now"
			kind="password"
			fill="current-password"
			max={200}
		/>
		<Field
			{form}
			name="new"
			label="New password"
			kind="password"
			fill="new-password"
			max={200}
			hint="At least 12 characters; a short sentence is easy to keep in mind. Your other sessions end."
		/>
		<SaveLine {form} save="Change password" />
	</form>
</section>

<style>
	form {
		display: grid;
		gap: 12px;
	}
	h2 {
		margin: 0 0 8px;
	}
</style>

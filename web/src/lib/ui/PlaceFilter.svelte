<script lang="ts">
	/** Which location a sheet is narrowed to; '' for all. */
	type Props = { value: string; places: { id: number; name: string }[] | undefined };
	let { value = $bindable(), places = [] }: Props = $props();
</script>

<select class="field" aria-label="Location" bind:value>
	<option value="">all locations</option>
	{#each places as place (place.id)}<option value={String(place.id)}>{place.name}</option>{/each}
</select>

<script lang="ts">
	/** A state: shape and word, never colour alone. Of goods that are to come, sent is on the way and received is the end. */
	type Props = { state: string; note?: string; word?: string; ofGoods?: boolean };
	let { state, note = '', word = state, ofGoods = false }: Props = $props();
	const OF_GOODS: Record<string, [string, string]> = {
		sent: ['reed', 'dot'],
		received: ['reed', 'tick']
	};
	const TONES: Record<string, [string, string]> = {
		agreed: ['reed', 'tick'],
		live: ['reed', 'tick'],
		sent: ['reed', 'tick'],
		linked: ['reed', 'tick'],
		shipped: ['reed', 'tick'],
		received: ['ochre', 'half'],
		closed: ['ink-soft', 'tick'],
		ready: ['reed', 'dot'],
		'part-shipped': ['ochre', 'half'],
		'part-received': ['ochre', 'half'],
		acknowledged: ['reed', 'dot'],
		expected: ['ochre', 'clock'],
		pending: ['ochre', 'clock'],
		gathered: ['ink-soft', 'clock'],
		tested: ['ochre', 'half'],
		draft: ['ink-soft', 'ring'],
		paused: ['ochre', 'bar'],
		disconnected: ['ink-soft', 'cross'],
		held: ['madder', 'bar'],
		drifting: ['madder', 'tri'],
		refused: ['madder', 'tri'],
		failed: ['madder', 'tri'],
		late: ['madder', 'tri'],
		cancelled: ['ink-soft', 'cross'],
		running: ['ochre', 'clock'],
		prepared: ['ink-soft', 'dot'],
		listed: ['reed', 'tick'],
		waiting: ['ochre', 'clock'],
		lost: ['madder', 'tri'],
		done: ['reed', 'tick'],
		next: ['ochre', 'dot'],
		paid: ['reed', 'tick'],
		authorised: ['ochre', 'clock'],
		hidden: ['ochre', 'bar'],
		ended: ['ink-soft', 'cross'],
		open: ['ink-soft', 'ring']
	};
	const look = $derived((ofGoods && OF_GOODS[state]) || TONES[state] || ['ink-soft', 'ring']);
</script>

<span class="state-mark" style="color: var(--{look[0]})">
	<svg width="11" height="11" viewBox="0 0 12 12" aria-hidden="true">
		{#if look[1] === 'tick'}<path d="M1.5 6.5L4.5 9.5L10.5 2.5" class="line" />
		{:else if look[1] === 'tri'}<path d="M6 1L11.5 11H.5Z" />
		{:else if look[1] === 'clock'}<circle cx="6" cy="6" r="4.8" class="line" /><path
				d="M6 6V1.2A4.8 4.8 0 0 1 10.8 6Z"
			/>
		{:else if look[1] === 'half'}<circle cx="6" cy="6" r="4.8" class="line" /><path
				d="M6 1.2A4.8 4.8 0 0 1 6 10.8Z"
			/>
		{:else if look[1] === 'dot'}<circle cx="6" cy="6" r="4.6" />
		{:else if look[1] === 'bar'}<path d="M1 4.5H11V7.5H1Z" />
		{:else if look[1] === 'cross'}<path d="M2 2L10 10M10 2L2 10" class="line" />
		{:else}<circle cx="6" cy="6" r="4.4" class="line" />{/if}
	</svg>
	<span class="word">{word}</span>
	{#if note}<span class="soft small">{note}</span>{/if}
</span>

<style>
	.state-mark {
		display: inline-flex;
		align-items: center;
		gap: 5px;
		white-space: nowrap;
	}
	.word {
		font-weight: 600;
	}
	path,
	circle {
		fill: currentColor;
	}
	.line {
		fill: none;
		stroke: currentColor;
		stroke-width: 1.8;
	}
</style>

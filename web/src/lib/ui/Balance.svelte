<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { count, figure, weight } from '#lib/format.ts';
	import { session } from '#lib/session.svelte.ts';
	import Beam from './Beam.svelte';

	/** Two books as a card: the beam, what differs, and what each says; below one another where it is narrow. */
	type Props = { beam: Schemas['BeamOut']; href?: string };
	let { beam, href }: Props = $props();
	const off = $derived(Number(beam.left) - Number(beam.right));
	const said = $derived.by(() => {
		if (beam.fault) return 'cannot be worked out';
		if (!beam.at) return 'not checked yet';
		if (!beam.differing) return 'level';
		if (!off) return count(beam.differing, 'difference');
		const amount = figure(Math.abs(off).toFixed(beam.money ? 2 : 0));
		return `${amount}${beam.money ? ` ${session.currency}` : ''} ${off > 0 ? 'more' : 'less'}`;
	});
</script>

<svelte:element
	this={href ? 'a' : 'section'}
	{href}
	class="panel card"
	aria-label={href ? undefined : `${beam.left_name}, ${beam.right_name}`}
>
	<div class="middle">
		<Beam
			tilt={beam.differing ? -Math.sign(off) || 1 : 0}
			tone={beam.differing ? 'madder' : 'reed'}
			size={60}
			label={beam.differing ? 'tilted' : 'level'}
		/>
		<span class="small" class:bad={beam.differing}>{said}</span>
	</div>
	<div class="sides">
		<div class="side">
			<span class="soft small">{beam.left_name}</span><b>{weight(beam.left, beam.money)}</b>
		</div>
		<div class="side right">
			<span class="soft small">{beam.right_name}</span><b>{weight(beam.right, beam.money)}</b>
		</div>
	</div>
</svelte:element>

<style>
	.card {
		display: grid;
		gap: 8px;
		padding: 11px 13px;
		color: inherit;
		text-decoration: none;
		container-type: inline-size;
		align-content: start;
	}
	.card:is(a):hover {
		border-color: var(--rule-strong);
	}
	.middle {
		display: grid;
		justify-items: center;
		text-align: center;
	}
	.sides {
		display: flex;
		flex-wrap: wrap;
		justify-content: space-between;
		gap: 0 6px;
	}
	.side {
		display: grid;
	}
	.right {
		text-align: right;
	}
	b {
		font:
			600 16px/22px 'Literata Variable',
			Georgia,
			serif;
		font-variant-numeric: tabular-nums;
	}
	.bad {
		color: var(--madder);
		font-weight: 600;
	}
	/* Six figures and their cents do not stand side by side in less. */
	@container (max-width: 178px) {
		.side {
			display: flex;
			width: 100%;
			justify-content: space-between;
			align-items: baseline;
			gap: 6px;
		}
		b {
			font-size: 14px;
		}
	}
</style>

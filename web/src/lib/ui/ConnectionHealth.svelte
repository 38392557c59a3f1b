<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { ago, moment } from '#lib/format.ts';

	/** How a connection does: each part's last success and fault, when it is asked next, and the last 24 hours. */
	type Props = {
		data: Schemas['ConnectionOut'];
		isBusy: boolean;
		onrun?: (part: string, since: string | null) => void;
	};
	let { data, isBusy, onrun }: Props = $props();
	let from = $state('');
	const HEIGHT = 54;
	const hours = $derived(data.health.hours);
	const most = $derived(Math.max(1, ...hours.map((hour) => hour.done + hour.failed)));
	const failed = $derived(hours.reduce((sum, hour) => sum + hour.failed, 0));
	const done = $derived(hours.reduce((sum, hour) => sum + hour.done, 0));
	const tall = (runs: number): number => (runs ? Math.max(2, (runs / most) * HEIGHT) : 0);
	const isAhead = (at: string): boolean => new Date(at).getTime() > Date.now() + 1500;
	const isTroubled = (part: Schemas['PartHealth']): boolean =>
		part.failed_at !== null && (part.succeeded_at === null || part.failed_at > part.succeeded_at);

	function again(event: SubmitEvent): void {
		event.preventDefault();
		if (from) onrun?.('orders', new Date(from).toISOString());
		from = '';
	}
</script>

<section aria-label="How it is doing">
	<h2>How it is doing</h2>
	<div class="halves">
		<table class="rows" aria-label="Parts">
			<thead
				><tr><th>Part</th><th>Last success</th><th>Last fault</th><th>Next</th><th></th></tr></thead
			>
			<tbody>
				{#each data.health.parts as part (part.kind)}
					<tr data-row>
						<td class="place">{part.label}</td>
						<td class="place" title={moment(part.succeeded_at)}
							>{part.succeeded_at ? ago(part.succeeded_at) : '–'}</td
						>
						<td class="place" class:bad={isTroubled(part)} title={moment(part.failed_at)}
							>{part.failed_at ? ago(part.failed_at) : '–'}</td
						>
						<td class="place soft"
							>{#if part.next_at}<span title={moment(part.next_at)}
									>{isAhead(part.next_at) ? moment(part.next_at) : 'now'}</span
								>{:else if part.asked}{data.state === 'live'
									? 'by hand'
									: '–'}{:else}{part.kind.startsWith('check')
									? 'every minute'
									: 'as it comes'}{/if}</td
						>
						<td class="num"
							>{#if onrun && part.part}<button
									class="quiet small"
									disabled={isBusy}
									aria-label="Run now: {part.label}"
									onclick={() => onrun(part.part, null)}>Run now</button
								>{/if}</td
						>
					</tr>
				{:else}<tr><td colspan="5" class="soft">Nothing was exchanged yet.</td></tr>{/each}
			</tbody>
		</table>
		<figure>
			<figcaption>
				<b>{done}</b> runs in 24 hours,
				{#if failed}<b class="bad">{failed} failed</b>{:else}none failed{/if}
			</figcaption>
			<svg
				viewBox="0 0 {hours.length * 12} {HEIGHT + 1}"
				role="img"
				aria-label="Runs of each of the last 24 hours: {done} ended well, {failed} failed"
			>
				{#each hours as hour, n (hour.at)}
					<g
						><title>{moment(hour.at)}: {hour.done} done, {hour.failed} failed</title>
						<rect
							class="done"
							x={n * 12 + 1}
							width="9"
							y={HEIGHT - tall(hour.done + hour.failed)}
							height={tall(hour.done + hour.failed)}
						/>
						<rect
							class="failed"
							x={n * 12 + 1}
							width="9"
							y={HEIGHT - tall(hour.failed)}
							height={tall(hour.failed)}
						/>
					</g>
				{/each}
				<line x1="0" x2={hours.length * 12} y1={HEIGHT + 0.5} y2={HEIGHT + 0.5} />
			</svg>
			<p class="ends soft small"><span>{moment(hours[0]?.at)}</span><span>now</span></p>
			{#if onrun && data.can.includes('orders')}
				<form onsubmit={again}>
					<label class="ask"
						>Read orders again from
						<span class="pair"
							><input class="field" type="datetime-local" bind:value={from} /><button
								class="quiet"
								disabled={isBusy || !from}>Read</button
							></span
						></label
					>
				</form>
			{/if}
		</figure>
	</div>
</section>

<style>
	h2 {
		padding: 0 20px 4px;
	}
	.halves {
		display: grid;
		grid-template-columns: minmax(0, 1fr) 330px;
		gap: 30px;
		align-items: start;
	}
	figure {
		padding: 6px 20px 0 0;
	}
	svg {
		width: 100%;
		margin-top: 8px;
	}
	.done {
		fill: var(--reed);
	}
	.failed {
		fill: var(--madder);
	}
	line {
		stroke: var(--rule-strong, var(--rule));
	}
	.ends {
		display: flex;
		justify-content: space-between;
	}
	.bad {
		color: var(--madder);
	}
	.pair {
		display: flex;
		gap: 8px;
	}
	form {
		margin-top: 10px;
	}
	@media (max-width: 900px) {
		.halves {
			grid-template-columns: 1fr;
		}
		figure {
			padding: 0 20px;
		}
	}
</style>

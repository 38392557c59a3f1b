<script lang="ts">
	import type { Schemas } from '#lib/api/client.ts';
	import { ago, day, figure } from '#lib/format.ts';

	/** What would come in from an account: counts, and the first of each. */
	type Props = { survey: Schemas['SurveyOut'] };
	let { survey }: Props = $props();
</script>

<table class="rows" aria-label="What would come in">
	<tbody>
		{#each survey.parts.filter((part) => part.count || part.name !== 'odd') as part (part.name)}
			{#each part.groups.length ? part.groups : [{ label: 'none', count: 0, examples: [] }] as group, at (group.label)}
				<tr>
					<td class="part">{at ? '' : part.label}</td>
					<td class="num">{figure(`${group.count}`, '0')}</td>
					<td class="group"
						>{#if group.examples.length}<details>
								<summary>{group.label}</summary>
								<ul>
									{#each group.examples as example, n (n)}<li>
											{example[0]} <span class="soft small">{example[1]}</span>
										</li>{/each}
									{#if group.count > group.examples.length}<li class="soft">
											and {figure(`${group.count - group.examples.length}`)} more
										</li>{/if}
								</ul>
							</details>{:else}{group.label}{/if}</td
					>
				</tr>
			{/each}
		{/each}
	</tbody>
</table>
<p class="soft small">
	Read {ago(survey.at)}, orders from {day(survey.since)} on. This kind gives no {survey.gives_no.join(
		', '
	)}.
</p>

<style>
	td {
		height: auto;
		padding-block: 5px;
		vertical-align: top;
	}
	.part {
		font-weight: 600;
		white-space: nowrap;
		padding-left: 0;
	}
	.group {
		width: 100%;
		white-space: normal;
	}
	summary {
		cursor: pointer;
	}
	ul {
		margin: 4px 0 6px;
		padding-left: 18px;
		list-style: square;
	}
</style>

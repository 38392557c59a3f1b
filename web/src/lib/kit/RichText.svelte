<script lang="ts" generics="T extends object">
	import type { Editor } from '@tiptap/core';
	import { onMount } from 'svelte';
	import type { FormState } from './FormState.svelte.ts';

	/** A text that can be formatted: paragraphs, headings, lists, links. The editor is loaded when it is needed. */
	type Props = {
		form: FormState<T>;
		name: keyof T & string;
		label: string;
		hint?: string;
		isFixed?: boolean;
	};
	let { form, name, label, hint, isFixed = false }: Props = $props();
	const id = $props.id();
	let box = $state<HTMLElement>();
	let editor = $state.raw<Editor>();
	/** Counts what happens in the editor, so that the buttons follow the cursor. */
	let beat = $state(0);
	const value = $derived(`${form.value[name] ?? ''}`);
	/** What the editor calls empty is kept as nothing. */
	const told = (html: string): string => (html === '<p></p>' ? '' : html);
	let last = '';

	const WAYS = [
		{ word: 'Bold', mark: 'bold', act: (e: Editor) => e.chain().focus().toggleBold().run() },
		{ word: 'Italic', mark: 'italic', act: (e: Editor) => e.chain().focus().toggleItalic().run() },
		{
			word: 'Heading',
			mark: 'heading',
			act: (e: Editor) => e.chain().focus().toggleHeading({ level: 3 }).run()
		},
		{
			word: 'List',
			mark: 'bulletList',
			act: (e: Editor) => e.chain().focus().toggleBulletList().run()
		},
		{
			word: 'Numbered list',
			mark: 'orderedList',
			act: (e: Editor) => e.chain().focus().toggleOrderedList().run()
		}
	];

	onMount(() => {
		let gone = false;
		void (async () => {
			const [{ Editor: Made }, { default: StarterKit }] = await Promise.all([
				import('@tiptap/core'),
				import('@tiptap/starter-kit')
			]);
			if (gone || !box) return;
			last = value;
			editor = new Made({
				element: box,
				injectCSS: false,
				content: value,
				extensions: [
					StarterKit.configure({
						heading: { levels: [3] },
						trailingNode: false,
						blockquote: false,
						code: false,
						codeBlock: false,
						horizontalRule: false,
						strike: false,
						underline: false,
						link: { openOnClick: false, protocols: ['http', 'https', 'mailto'] }
					})
				],
				editorProps: {
					attributes: {
						role: 'textbox',
						'aria-multiline': 'true',
						'aria-labelledby': `${id}-label`,
						class: 'formatted'
					}
				},
				onUpdate: ({ editor: now }) => {
					last = told(now.getHTML());
					form.set({ [name]: last } as Partial<T>);
				},
				onTransaction: () => (beat += 1)
			});
		})();
		return () => {
			gone = true;
			editor?.destroy();
		};
	});
	// What came from elsewhere (saved, dropped, another version) is shown; what was typed here is there already.
	$effect(() => {
		if (editor && value !== last) {
			last = value;
			editor.commands.setContent(value, { emitUpdate: false });
		}
	});
	$effect(() => editor?.setEditable(!isFixed, false));
	/** The cursor stays in the text: what is typed right after a click would be lost to the button. */
	const stay = (event: MouseEvent): void => event.preventDefault();
	const isOn = (mark: string): boolean => beat >= 0 && (editor?.isActive(mark) ?? false);
</script>

<div class="ask">
	<span id="{id}-label">{label}</span>
	<div class="whole" aria-invalid={form.wrong(name)}>
		{#if !isFixed}<div class="ways" role="toolbar" aria-label="Format the {label.toLowerCase()}">
				{#each WAYS as way (way.mark)}<button
						type="button"
						class="quiet"
						aria-pressed={isOn(way.mark)}
						disabled={!editor}
						onmousedown={stay}
						onclick={() => editor && way.act(editor)}>{way.word}</button
					>{/each}
			</div>{/if}
		<div bind:this={box}></div>
	</div>
	{#if hint}<span class="soft small">{hint}</span>{/if}
</div>

<style>
	.whole {
		border: 1px solid var(--rule-strong);
		border-radius: 3px;
		background: var(--sheet);
		color: var(--ink);
		font-size: 14px;
		font-weight: 400;
	}
	.whole[aria-invalid] {
		border-color: var(--madder);
	}
	.ways {
		display: flex;
		flex-wrap: wrap;
		gap: 2px;
		padding: 3px;
		border-bottom: 1px solid var(--rule);
	}
	.ways button {
		min-height: 24px;
		padding: 1px 8px;
		font-size: 12px;
		border-color: transparent;
	}
	.ways button[aria-pressed='true'] {
		background: var(--reed-tint);
		border-color: var(--reed);
	}
	.whole :global(.formatted) {
		min-height: 88px;
		max-height: 300px;
		overflow-y: auto;
		padding: 7px 10px;
		outline-offset: -2px;
	}
</style>

<script lang="ts">
	import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';
	import type { Snippet } from 'svelte';

	/** A small sheet over the page: one decision, then gone. */
	type Props = {
		isOpen: boolean;
		title: string;
		onclose: () => void;
		children: Snippet;
		wide?: boolean;
	};
	let { isOpen, title, onclose, children, wide = false }: Props = $props();
</script>

<Dialog
	open={isOpen}
	onOpenChange={(details) => {
		if (!details.open) onclose();
	}}
>
	<Portal>
		<Dialog.Backdrop class="fixed inset-0 z-40 bg-black/40" />
		<Dialog.Positioner
			class="fixed inset-0 z-50 flex items-start justify-center overflow-auto p-6 pt-16"
		>
			<Dialog.Content class="dialogue {wide ? 'w-[860px]' : 'w-[460px]'} max-w-full">
				<Dialog.Title class="dialogue-title">{title}</Dialog.Title>
				{@render children()}
			</Dialog.Content>
		</Dialog.Positioner>
	</Portal>
</Dialog>

<style>
	:global(.dialogue) {
		background: var(--paper);
		color: var(--ink);
		border: 1px solid var(--rule-strong);
		border-top: 3px solid var(--reed);
		border-radius: 3px;
		padding: 16px 20px 18px;
	}
	:global(.dialogue-title) {
		font:
			600 18px/26px 'Literata Variable',
			Georgia,
			serif;
		margin-bottom: 10px;
	}
</style>

type Handler = (event: KeyboardEvent) => boolean;

const handlers: Handler[] = [];

/** Listen for keys while a view stands; the newest listener is asked first. Returns how to stop. */
export function onKey(handler: Handler): () => void {
	handlers.unshift(handler);
	return () => {
		const at = handlers.indexOf(handler);
		if (at >= 0) handlers.splice(at, 1);
	};
}

function isTyping(target: EventTarget | null): boolean {
	const element = target as HTMLElement | null;
	if (!element) return false;
	if (element.closest('[role=dialog]') || element.isContentEditable) return true;
	if (element instanceof HTMLInputElement) return !['checkbox', 'radio'].includes(element.type);
	return element instanceof HTMLTextAreaElement || element instanceof HTMLSelectElement;
}

/** One listener on the window: keys are commands unless somebody is typing. */
export function dispatch(event: KeyboardEvent): void {
	if (event.ctrlKey || event.metaKey || event.altKey) return;
	if (isTyping(event.target)) {
		if (event.key === 'Escape') (event.target as HTMLElement).blur();
		return;
	}
	for (const handler of [...handlers]) {
		if (handler(event)) {
			event.preventDefault();
			return;
		}
	}
}

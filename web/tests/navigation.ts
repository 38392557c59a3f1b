/** Stands in for SvelteKit's, which only a page has. */
export const beforeNavigate = (): void => undefined;

import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vitest/config';

/** Logic without a page: the classes in .svelte.ts and what is beside them. */
export default defineConfig({
	plugins: [svelte()],
	resolve: {
		conditions: ['browser'],
		alias: {
			'$app/navigation': new URL('./tests/navigation.ts', import.meta.url).pathname
		}
	},
	test: { include: ['tests/**/*.test.ts'] }
});

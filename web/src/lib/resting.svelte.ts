import { untrack } from 'svelte';

/** What somebody types, as it stands when the typing rests; to be made while a component begins. */
export class Resting<T> {
	value = $state() as T;

	constructor(now: () => T, pause = 250) {
		this.value = untrack(now);
		$effect(() => {
			const seen = $state.snapshot(now()) as T;
			const timer = setTimeout(() => (this.value = seen), pause);
			return () => clearTimeout(timer);
		});
	}
}

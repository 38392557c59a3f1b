/** Light or dark: the system's choice until the person makes one. */
class Look {
	mode = $state<'light' | 'dark'>('light');

	start(): void {
		const kept = localStorage.getItem('yuvrel.mode');
		const dark = matchMedia('(prefers-color-scheme: dark)').matches;
		this.set(kept === 'dark' || kept === 'light' ? kept : dark ? 'dark' : 'light', false);
	}

	set(mode: 'light' | 'dark', keep = true): void {
		this.mode = mode;
		document.documentElement.dataset.mode = mode;
		if (keep) localStorage.setItem('yuvrel.mode', mode);
	}
}

export const look = new Look();

/** The Working drawer: which figure is open. It stays open while the cursor walks down the column. */
class Drawer {
	kind = $state('');
	key = $state('');

	get isOpen(): boolean {
		return this.kind !== '';
	}

	open(kind: string, key: string): void {
		this.kind = kind;
		this.key = key;
	}

	close(): void {
		this.kind = '';
		this.key = '';
	}
}

export const drawer = new Drawer();

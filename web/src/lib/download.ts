/** Hands a file that the server made to the person, under a name. */
export function save(file: Blob, name: string): void {
	const link = document.createElement('a');
	link.href = URL.createObjectURL(file);
	link.download = name;
	link.click();
	setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

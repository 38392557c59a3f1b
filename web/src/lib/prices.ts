/** Which price with an ending is taken. */
export const ROUNDINGS = [
	{ value: 'up', label: 'up to it' },
	{ value: 'nearest', label: 'to the nearest' },
	{ value: 'down', label: 'down to it' }
];

/** The seven places of work, in the order in which goods and money pass. */
export const STATIONS = [
	{ key: 'today', name: 'Today', path: '/', waits: 'drifts and snags' },
	{ key: 'range', name: 'Range', path: '/range', waits: 'listings not paired' },
	{ key: 'shelf', name: 'Shelf', path: '/shelf', waits: 'balances below zero' },
	{ key: 'orders', name: 'Orders', path: '/orders', waits: 'orders to work on' },
	{ key: 'buying', name: 'Buying', path: '/buying', waits: 'drafts and late orders' },
	{ key: 'books', name: 'Books', path: '/books', waits: 'drifts' },
	{
		key: 'connections',
		name: 'Connections',
		path: '/connections',
		waits: 'snags and connections not live'
	}
] as const;

export type StationKey = (typeof STATIONS)[number]['key'];

export function stationOf(path: string): StationKey {
	const found = STATIONS.find((s) => s.path !== '/' && path.startsWith(s.path));
	return found ? found.key : 'today';
}

/** The sheets of each station. */
export const TODAY_TABS = [
	{ name: 'Morning', path: '/' },
	{ name: 'First steps', path: '/first-steps' }
];
export const RANGE_TABS = [
	{ name: 'Items', path: '/range' },
	{ name: 'Prices', path: '/range/prices' },
	{ name: 'Categories', path: '/range/categories' },
	{ name: 'Words', path: '/range/words' },
	{ name: 'Pairing bench', path: '/range/pairing' },
	{ name: 'Differences', path: '/range/differences' },
	{ name: 'Import and export', path: '/range/sheets' }
];
export const SHELF_TABS = [
	{ name: 'Stock', path: '/shelf' },
	{ name: 'Moves', path: '/shelf/moves' },
	{ name: 'Transfers', path: '/shelf/transfers' },
	{ name: 'Opening stock', path: '/shelf/opening' }
];
export const ORDER_TABS = [
	{ name: 'Orders', path: '/orders' },
	{ name: 'Returns', path: '/orders/returns' },
	{ name: 'Customers', path: '/orders/customers' }
];
export const BUYING_TABS = [
	{ name: 'Replenishment', path: '/buying' },
	{ name: 'Forecasts', path: '/buying/forecasts' },
	{ name: 'Purchase orders', path: '/buying/orders' },
	{ name: 'Suppliers', path: '/buying/suppliers' }
];
export const BOOKS_TABS = [
	{ name: 'Agreement', path: '/books' },
	{ name: 'Journal', path: '/books/journal' },
	{ name: 'Accounts', path: '/books/accounts' },
	{ name: 'Till counts', path: '/books/counts' }
];
export const CONNECTION_TABS = [
	{ name: 'Connections', path: '/connections' },
	{ name: 'Runs', path: '/connections/runs' },
	{ name: 'Snags', path: '/connections/snags' }
];

/** The same by the station's key. */
export const TABS: Record<string, { name: string; path: string }[]> = {
	today: TODAY_TABS,
	range: RANGE_TABS,
	shelf: SHELF_TABS,
	orders: ORDER_TABS,
	buying: BUYING_TABS,
	books: BOOKS_TABS,
	connections: CONNECTION_TABS
};

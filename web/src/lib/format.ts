const GROUPS = /\B(?=(\d{3})+(?!\d))/g;

/** A decimal string as people read it: grouped, a true minus sign, a middle dot for zero. */
export function figure(text: string | null | undefined, zero = '·'): string {
	if (text === null || text === undefined) return '–';
	if (/^-?0*(\.0*)?$/.test(text)) return zero;
	const negative = text.startsWith('-');
	const [whole = '', part] = text.replace('-', '').split('.');
	const grouped = whole.replace(GROUPS, ',') + (part ? `.${part}` : '');
	return negative ? `−${grouped}` : grouped;
}

/** The company's time zone; moments are told in it wherever the browser stands. */
let zone = 'UTC';

export function tellTimesIn(name: string): void {
	zone = name;
}

function told(iso: string, options: Intl.DateTimeFormatOptions): string {
	// A day without a time is that day everywhere.
	const timeZone = iso.length === 10 ? 'UTC' : zone;
	return new Intl.DateTimeFormat('en-GB', { ...options, timeZone }).format(new Date(iso));
}

/** 14 Mar 2027 */
export function day(iso: string | null | undefined): string {
	return iso ? told(iso, { day: 'numeric', month: 'short', year: 'numeric' }) : '–';
}

/** 14 Mar */
export function shortDay(iso: string): string {
	return told(iso, { day: 'numeric', month: 'short' });
}

/** 14 Mar, 09:05 in the company's time zone; 14 Mar 2025 when it was in another year. */
export function moment(iso: string | null | undefined): string {
	if (!iso) return '–';
	const year = { year: 'numeric' } as const;
	if (told(iso, year) !== told(new Date().toISOString(), year)) return day(iso);
	return told(iso, { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });
}

/** "40 seconds ago"; the exact time belongs in a tooltip. */
export function ago(iso: string | null | undefined, now = Date.now()): string {
	if (!iso) return 'never';
	const seconds = Math.max(0, Math.round((now - new Date(iso).getTime()) / 1000));
	if (seconds < 5) return 'just now';
	if (seconds < 90) return `${seconds} seconds ago`;
	if (seconds < 5400) return `${Math.round(seconds / 60)} minutes ago`;
	if (seconds < 129600) return `${Math.round(seconds / 3600)} hours ago`;
	return `${Math.round(seconds / 86400)} days ago`;
}

/** "3 orders", "1 order" */
export function count(n: number, one: string, many = `${one}s`): string {
	return `${n.toLocaleString('en-GB')} ${n === 1 ? one : many}`;
}

const COUNTRIES = new Intl.DisplayNames('en-GB', { type: 'region' });

/** A country by its two letters: Ireland */
export function countryName(code: string): string {
	return COUNTRIES.of(code) ?? code;
}

/** A company's name stands before many of its channels; as a column head each goes without it. */
export function shortName(name: string, company: string): string {
	const first = company.split(' ')[0] ?? '';
	return first && name.startsWith(`${first} `) ? name.slice(first.length + 1) : name;
}

/** +0.19, −0.19, 0.00 */
export function signed(value: number, places = 2): string {
	const text = Math.abs(value).toFixed(places);
	if (Number(text) === 0) return text;
	return `${value < 0 ? '−' : '+'}${text}`;
}

/** A side of a beam: money with its cents, units as they are. */
export function weight(text: string, isMoney: boolean): string {
	return figure(isMoney ? Number(text).toFixed(2) : text, '0');
}

/** 48.2 %; a dash where nothing is known. */
export function percent(text: string | null | undefined): string {
	return text === null || text === undefined ? '–' : `${figure(Number(text).toFixed(1), '0')} %`;
}

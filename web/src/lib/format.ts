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

const DAY: Intl.DateTimeFormatOptions = { day: 'numeric', month: 'short', year: 'numeric' };

/** 14 Mar 2027 */
export function day(iso: string | null | undefined): string {
	return iso ? new Intl.DateTimeFormat('en-GB', DAY).format(new Date(iso)) : '–';
}

/** 14 Mar, 09:05 in the company's time zone; 14 Mar 2025 when it was in another year. */
export function moment(iso: string | null | undefined, zone = 'Europe/Dublin'): string {
	if (!iso) return '–';
	if (new Date(iso).getFullYear() !== new Date().getFullYear()) return day(iso);
	return new Intl.DateTimeFormat('en-GB', {
		day: 'numeric',
		month: 'short',
		hour: '2-digit',
		minute: '2-digit',
		timeZone: zone
	}).format(new Date(iso));
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

/** A company's name stands before many of its channels; as a column head each goes without it. */
export function shortName(name: string, company: string): string {
	const first = company.split(' ')[0] ?? '';
	return first && name.startsWith(`${first} `) ? name.slice(first.length + 1) : name;
}

/** A side of a beam: money with its cents, units as they are. */
export function weight(text: string, isMoney: boolean): string {
	return figure(isMoney ? Number(text).toFixed(2) : text, '0');
}

import type { Cell, Column } from './api';

const NUMBER = /^(SMALLINT|INTEGER|BIGINT|REAL|DOUBLE|DECIMAL)/;

export function isNumber(column: Column): boolean {
  return NUMBER.test(column.type);
}

export function isTime(column: Column): boolean {
  return column.type === 'TIMESTAMP' || column.type === 'DATE';
}

const DURATION = /^PT(?:(-?\d+)H)?(?:(-?\d+)M)?(?:(-?[\d.]+)S)?$/;

/** Days, hours, minutes and seconds of an ISO 8601 duration. */
export function duration(iso: string): string {
  const parts = DURATION.exec(iso);
  if (!parts) return iso;
  const [hours, minutes, seconds] = parts.slice(1, 4).map((part) => part ?? '0');
  const negative = [hours, minutes, seconds].some((part) => part.startsWith('-'));
  const [h, m, s] = [hours, minutes, seconds].map((part) => part.replace('-', ''));
  const [whole, fraction] = s.split('.');
  const days = Math.floor(Number(h) / 24);
  const clock = [String(Number(h) % 24), m, whole].map((part) => part.padStart(2, '0')).join(':');
  const day = days === 0 ? '' : days === 1 ? '1 day ' : `${days} days `;
  return (negative ? '-' : '') + day + clock + (fraction ? `.${fraction}` : '');
}

/** A cell as people read it. */
export function show(value: Cell, column: Column): string {
  if (value === null) return '·';
  if (column.type === 'TIMESTAMP' && typeof value === 'string') {
    return value.replace('T', ' ').replace('Z', '');
  }
  if (column.type === 'INTERVAL DAY TO SECOND' && typeof value === 'string') {
    return duration(value);
  }
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}

/** A count with thin spaces, as ledgers have them. */
export function count(n: number | undefined): string {
  return n === undefined ? '' : n.toString().replace(/\B(?=(\d{3})+$)/g, '\u2009');
}

/** How long ago a moment is, in the largest unit that says something. */
export function ago(iso: string, nowMillis: number): string {
  const seconds = Math.round((nowMillis - Date.parse(iso)) / 1000);
  const units: [number, string][] = [[86_400, 'd'], [3600, 'h'], [60, 'min'], [1, 's']];
  const [length, unit] = units.find(([l]) => Math.abs(seconds) >= 2 * l) ?? [1, 's'];
  return `${Math.floor(seconds / length)} ${unit}`;
}

/** Bytes as people say them. */
export function size(bytes: number): string {
  return bytes < 10_000 ? `${bytes} B` : bytes < 10_000_000 ? `${Math.round(bytes / 1000)} kB` : `${Math.round(bytes / 1_000_000)} MB`;
}

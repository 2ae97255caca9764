import type { Cell, Column } from './api';

const NUMBER = /^(SMALLINT|INTEGER|BIGINT|REAL|DOUBLE|DECIMAL)/;

export function isNumber(column: Column): boolean {
  return NUMBER.test(column.type);
}

export function isTime(column: Column): boolean {
  return column.type === 'TIMESTAMP' || column.type === 'DATE';
}

/** A cell as people read it. */
export function show(value: Cell, column: Column): string {
  if (value === null) return '·';
  if (column.type === 'TIMESTAMP' && typeof value === 'string') {
    return value.replace('T', ' ').replace('Z', '');
  }
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}

/** A count with thin spaces, as ledgers have them. */
export function count(n: number | undefined): string {
  return n === undefined ? '' : n.toString().replace(/\B(?=(\d{3})+$)/g, '\u2009');
}

/** Bytes as people say them. */
export function size(bytes: number): string {
  return bytes < 10_000 ? `${bytes} B` : bytes < 10_000_000 ? `${Math.round(bytes / 1000)} kB` : `${Math.round(bytes / 1_000_000)} MB`;
}

import type { Cell, Change } from './api';

/** What happened to a row a moment ago. */
export type Mark = 'came' | 'changed' | 'went' | null;

export interface LiveRow {
  id: number;
  row: Cell[];
  weight: number;
  mark: Mark;
  markedAt: number;
  changedCells: Set<number>;
}

/** How long a mark stays, in milliseconds. */
export const MARK_MILLIS = 2600;

/**
 * The rows of a followed query. A batch's removals and additions that agree in their first columns are
 * one changed row, so that it stays where it is and only its new cells are marked.
 */
export class LiveRows {
  private nextId = 1;
  private byText = new Map<string, LiveRow>();
  private order: LiveRow[] = [];

  reset(changes: Change[], now: number): void {
    this.byText.clear();
    this.order = [];
    for (const change of changes) this.add(change, null, now);
  }

  apply(changes: Change[], now: number): void {
    const came = changes.filter((c) => c.weight > 0);
    for (const change of changes) {
      if (change.weight >= 0) continue;
      const held = this.byText.get(JSON.stringify(change.row));
      if (!held) continue;
      if (held.weight + change.weight > 0) {
        held.weight += change.weight;
        continue;
      }
      this.byText.delete(JSON.stringify(change.row));
      const successor = this.takeSuccessor(held.row, came);
      if (successor) {
        this.replace(held, successor, now);
      } else {
        held.mark = 'went';
        held.markedAt = now;
      }
    }
    for (const change of came) this.add(change, 'came', now);
  }

  private replace(held: LiveRow, successor: Change, now: number): void {
    held.changedCells = new Set(
      successor.row.flatMap((cell, i) => (same(cell, held.row[i]) ? [] : [i])),
    );
    held.row = successor.row;
    held.weight = successor.weight;
    held.mark = 'changed';
    held.markedAt = now;
    this.byText.set(JSON.stringify(held.row), held);
  }

  /** The addition that agrees in most leading columns, at least in the first; taken out of the list. */
  private takeSuccessor(row: Cell[], came: Change[]): Change | null {
    let best = -1;
    let bestLength = 0;
    came.forEach((change, i) => {
      let length = 0;
      while (length < row.length && same(change.row[length], row[length])) length++;
      if (length > bestLength) {
        best = i;
        bestLength = length;
      }
    });
    return best < 0 ? null : came.splice(best, 1)[0];
  }

  private add(change: Change, mark: Mark, now: number): void {
    const text = JSON.stringify(change.row);
    const held = this.byText.get(text);
    if (held) {
      held.weight += change.weight;
      return;
    }
    const row = {
      id: this.nextId++,
      row: change.row,
      weight: change.weight,
      mark,
      markedAt: now,
      changedCells: new Set<number>(),
    };
    this.byText.set(text, row);
    this.order.push(row);
  }

  /** Takes away old marks, and rows that went long enough ago to have been seen going. */
  settle(now: number): void {
    this.order = this.order.filter((r) => r.mark !== 'went' || now - r.markedAt < MARK_MILLIS);
    for (const r of this.order) {
      if (r.mark && now - r.markedAt >= MARK_MILLIS) {
        r.mark = null;
        r.changedCells = new Set();
      }
    }
  }

  rows(): LiveRow[] {
    return this.order;
  }

  /** Rows that are there now, those that are going left out. */
  get size(): number {
    return this.order.reduce((n, r) => n + (r.mark === 'went' ? 0 : r.weight), 0);
  }
}

function same(a: Cell, b: Cell): boolean {
  return a === b || JSON.stringify(a) === JSON.stringify(b);
}

import { describe, expect, it } from 'vitest';
import { LiveRows, MARK_MILLIS } from './live';

const texts = (live: LiveRows) => live.rows().map((r) => `${r.mark ?? '-'} ${JSON.stringify(r.row)}`);

describe('LiveRows', () => {
  it('shows a changed row in its place with the cells that changed', () => {
    const live = new LiveRows();
    live.reset([{ weight: 1, row: ['G01', 5] }, { weight: 1, row: ['G02', 7] }], 0);
    live.apply([{ weight: -1, row: ['G01', 5] }, { weight: 1, row: ['G01', 6] }], 10);
    expect(texts(live)).toEqual(['changed ["G01",6]', '- ["G02",7]']);
    expect([...live.rows()[0].changedCells]).toEqual([1]);
    live.settle(10 + MARK_MILLIS);
    expect(texts(live)).toEqual(['- ["G01",6]', '- ["G02",7]']);
  });

  it('pairs by the longest run of equal leading columns', () => {
    const live = new LiveRows();
    live.reset([{ weight: 1, row: ['N', '06:14', 1] }, { weight: 1, row: ['N', '06:15', 2] }], 0);
    live.apply(
      [
        { weight: -1, row: ['N', '06:15', 2] },
        { weight: 1, row: ['N', '06:16', 1] },
        { weight: 1, row: ['N', '06:15', 3] },
      ],
      1,
    );
    expect(texts(live)).toEqual(['- ["N","06:14",1]', 'changed ["N","06:15",3]', 'came ["N","06:16",1]']);
  });

  it('lets a row that went be seen for a while', () => {
    const live = new LiveRows();
    live.reset([{ weight: 1, row: ['a'] }], 0);
    live.apply([{ weight: -1, row: ['a'] }], 5);
    expect(texts(live)).toEqual(['went ["a"]']);
    expect(live.size).toBe(0);
    live.settle(5 + MARK_MILLIS);
    expect(live.rows()).toEqual([]);
  });

  it('counts equal rows', () => {
    const live = new LiveRows();
    live.reset([{ weight: 2, row: ['a'] }], 0);
    live.apply([{ weight: -1, row: ['a'] }], 1);
    expect(live.rows()[0].weight).toBe(1);
    expect(live.size).toBe(1);
  });
});

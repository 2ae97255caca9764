import { describe, expect, it } from 'vitest';
import { ago, count, duration, show, size } from './format';

describe('what people read', () => {
  it('shows intervals as clocks do', () => {
    expect(duration('PT6H15M42.865S')).toBe('06:15:42.865');
    expect(duration('PT-49H-0.5S')).toBe('-2 days 01:00:00.5');
    expect(duration('PT24H')).toBe('1 day 00:00:00');
    expect(duration('PT0S')).toBe('00:00:00');
    expect(show('PT5M', { name: 'took', type: 'INTERVAL DAY TO SECOND', nullable: true })).toBe('00:05:00');
    expect(show('PT5M', { name: 'text', type: 'VARCHAR', nullable: true })).toBe('PT5M');
  });

  it('says how long ago something was in a unit that fits', () => {
    const now = Date.parse('2026-03-02T06:00:00Z');
    const shown = ['2026-03-02T05:59:30Z', '2026-03-02T05:50:00Z', '2026-03-01T06:00:00Z', '2026-02-20T06:00:00Z'];
    expect(shown.map((t) => ago(t, now))).toEqual(['30 s', '10 min', '24 h', '10 d']);
  });

  it('shows times without their signs and nothing as a dot', () => {
    expect(show('2026-03-02T06:14:09Z', { name: 'at', type: 'TIMESTAMP', nullable: true })).toBe('2026-03-02 06:14:09');
    expect(show(null, { name: 'at', type: 'TIMESTAMP', nullable: true })).toBe('·');
    expect(show([1, 2], { name: 'a', type: 'INTEGER ARRAY', nullable: true })).toBe('[1,2]');
  });

  it('shows sizes and counts', () => {
    expect(count(1234567)).toBe('1\u2009234\u2009567');
    expect(size(20_000)).toBe('20 kB');
  });
});

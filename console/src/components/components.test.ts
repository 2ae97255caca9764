import { mount } from '@vue/test-utils';
import { createPinia, setActivePinia } from 'pinia';
import { beforeEach, describe, expect, it } from 'vitest';
import type { Column } from '../lib/api';
import { LiveRows } from '../lib/live';
import { useCatalog } from '../stores/catalog';
import ResultTable from './ResultTable.vue';
import SideList from './SideList.vue';

const columns: Column[] = [
  { name: 'gate', type: 'VARCHAR', nullable: true },
  { name: 'scans', type: 'BIGINT', nullable: false },
];

function table(live: LiveRows, version = 1) {
  return mount(ResultTable, { props: { columns, rows: live.rows(), version } });
}

describe('ResultTable', () => {
  it('shows rows with numbers to the right and nothing as a dot', () => {
    const live = new LiveRows();
    live.reset([{ weight: 1, row: [null, 5] }], 0);
    const cells = table(live).findAll('tbody td');
    expect(cells[1].text()).toBe('·');
    expect(cells[1].classes()).toContain('nothing');
    expect(cells[2].classes()).toContain('number');
  });

  it('marks what came, changed and went', () => {
    const live = new LiveRows();
    live.reset([{ weight: 1, row: ['G01', 1] }, { weight: 1, row: ['G02', 2] }], 0);
    live.apply(
      [
        { weight: -1, row: ['G01', 1] },
        { weight: -1, row: ['G02', 2] },
        { weight: 1, row: ['G01', 9] },
        { weight: 1, row: ['G03', 3] },
      ],
      1,
    );
    const rows = table(live).findAll('tbody tr');
    expect(rows.map((r) => r.classes()[0])).toEqual(['changed', 'went', 'came']);
    expect(rows.map((r) => r.find('.sign').text())).toEqual(['~', '−', '+']);
    expect(rows[0].findAll('.wet').map((c) => c.text())).toEqual(['9']);
  });

  it('sorts numbers as numbers, up, down and not at all', async () => {
    const live = new LiveRows();
    live.reset([10, 9, 100].map((n) => ({ weight: 1, row: ['G', n] })), 0);
    const view = table(live);
    const values = () => view.findAll('tbody td.number').map((c) => c.text());
    const header = view.findAll('th button')[1];
    await header.trigger('click');
    expect(values()).toEqual(['9', '10', '100']);
    await header.trigger('click');
    expect(values()).toEqual(['100', '10', '9']);
    await header.trigger('click');
    expect(values()).toEqual(['10', '9', '100']);
  });

  it('says how often a row is there', () => {
    const live = new LiveRows();
    live.reset([{ weight: 3, row: ['G01', 1] }], 0);
    expect(table(live).find('tbody .sign').text()).toBe('×3');
  });
});

describe('SideList', () => {
  beforeEach(() => setActivePinia(createPinia()));

  it('lists streams, tables and views with their rows and columns', async () => {
    const catalog = useCatalog();
    catalog.objects = [
      { name: 'scan', kind: 'stream', columns, events: 12345 },
      { name: 'gate', kind: 'table', columns, rows: 24, key: ['gate'] },
      { name: 'load', kind: 'materialized view', columns, rows: 7, health: 'stopped: overflow' },
    ];
    const list = mount(SideList);
    expect(list.text()).toContain('12\u2009345');
    expect(list.find('[data-test=object-load] .bad').exists()).toBe(true);
    expect(list.findAll('ul').length).toBe(0);
    await list.find('[data-test=object-gate] .name').trigger('click');
    expect(list.find('[data-test=object-gate] ul').text()).toContain('bigint');
    expect(list.findAll('[data-test=object-gate] .key').map((k) => k.text())).toEqual(['gate']);
    await list.find('[data-test=object-load] .ask').trigger('click');
    expect(list.emitted('ask')).toEqual([['FOLLOW SELECT * FROM load;']]);
  });

  it('says how far time has come, what was left out and what is kept', async () => {
    const watermark = new Date(Date.now() - 90_000).toISOString();
    useCatalog().objects = [
      { name: 'met', kind: 'materialized view', columns, rows: 7, watermark, late: 1200, rejects: 0, state_bytes: 64_000 },
      { name: 'gate', kind: 'table', columns, rows: 24, rejects: 0 },
      { name: 'day', kind: 'materialized view', columns, rows: 7, upkeep: 'every 20 seconds', refreshed_at: watermark, waiting_rows: 3400 },
    ];
    const list = mount(SideList);
    await list.find('[data-test=object-day] .name').trigger('click');
    expect(list.findAll('[data-test=object-day] .fact').map((f) => f.text())).toEqual([
      'every 20 seconds, last 90 s ago',
      '3\u2009400 rows wait',
    ]);
    await list.find('[data-test=object-met] .name').trigger('click');
    await list.find('[data-test=object-gate] .name').trigger('click');
    expect(list.findAll('[data-test=object-met] .fact').map((f) => f.text())).toEqual([
      `up to ${watermark.slice(11, 19)}, 90 s behind`,
      '1\u2009200 late',
      '64 kB of state',
    ]);
    expect(list.findAll('[data-test=object-gate] .fact').length).toBe(0);
  });

  it('says of a sink how far it is and why it does not get through', async () => {
    const since = new Date(Date.now() - 90_000).toISOString();
    useCatalog().objects = [
      {
        name: 'charge',
        kind: 'sink',
        columns: [],
        health: 'failing: nobody answers',
        delivery: {
          connection: 'hub_ops', rows: 'upsert', upkeep: 'continuous', state: 'failing', epoch: 12, put: 40,
          changed: 3, removed: 1, waiting_rows: 7, waiting_since: since, error: 'nobody answers', error_since: since,
        },
      },
    ];
    const list = mount(SideList);
    expect(list.find('[data-test=object-charge] .rows').text()).toBe('44');
    expect(list.find('[data-test=object-charge] .bad').exists()).toBe(true);
    expect(list.find('[data-test=object-charge] .ask').exists()).toBe(false);
    await list.find('[data-test=object-charge] .name').trigger('click');
    expect(list.findAll('[data-test=object-charge] .fact').map((f) => f.text())).toEqual([
      'upsert to hub_ops, continuous',
      'failing, up to epoch 12',
      '7 rows behind, 90 s',
      'nobody answers',
    ]);
  });

  it('lists endpoints with what they take, and calls them', async () => {
    useCatalog().objects = [
      {
        name: 'busiest_areas',
        kind: 'endpoint',
        columns: [{ name: 'area', type: 'VARCHAR', nullable: false }],
        parameters: [
          { name: 'service', type: 'VARCHAR', required: false, default: 'next_day' },
          { name: 'n', type: 'INTEGER', required: true, default: null },
          { name: 'hall', type: 'VARCHAR', required: false, default: null },
        ],
        calls: 12,
      },
    ];
    const list = mount(SideList);
    expect(list.find('[data-test=object-busiest_areas] .rows').text()).toBe('12');
    await list.find('[data-test=object-busiest_areas] .ask').trigger('click');
    expect(list.emitted('call')).toEqual([['busiest_areas']]);
    await list.find('[data-test=object-busiest_areas] .name').trigger('click');
    expect(list.findAll('[data-test=object-busiest_areas] .type').map((t) => t.text())).toEqual([
      'varchar = next_day',
      'integer',
      'varchar, optional',
      'varchar',
    ]);
  });

  it('says when there is nothing', () => {
    expect(mount(SideList).findAll('.none').length).toBe(6);
  });
});

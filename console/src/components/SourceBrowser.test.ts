import { flushPromises, mount } from '@vue/test-utils';
import { createPinia, setActivePinia } from 'pinia';
import PrimeVue from 'primevue/config';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import * as api from '../lib/api';
import { useCatalog } from '../stores/catalog';
import SourceBrowser from './SourceBrowser.vue';

const topic = { name: 'hub.scan', kind: 'topic', partitions: 3, messages: 1200, bytes: 5_000, per_second: 38.7, key: null, note: null };
const proposal = {
  sampled: 500,
  unread: 1,
  columns: [{ name: 'scanner_id', type: 'VARCHAR', nullable: true, path: '$.scanner.id', example: 'S-31', missing: 2, conflict: null }],
  sql: "CREATE STREAM scan (\n  scanner_id VARCHAR PATH '$.scanner.id'\n)",
};

async function browser(type = 'kafka') {
  const catalog = useCatalog();
  catalog.objects = [{ name: 'hub_log', kind: 'connection', type }] as never;
  const view = mount(SourceBrowser, { props: { connection: 'hub_log' }, global: { plugins: [PrimeVue] } });
  await flushPromises();
  return view;
}

describe('SourceBrowser', () => {
  beforeEach(() => {
    setActivePinia(createPinia());
    vi.restoreAllMocks();
    window.matchMedia = vi.fn(() => ({ addEventListener: vi.fn(), removeEventListener: vi.fn() })) as never;
    vi.spyOn(useCatalog(), 'refresh').mockResolvedValue();
    vi.spyOn(api, 'sources').mockResolvedValue([topic] as never);
    vi.spyOn(api, 'peek').mockResolvedValue([
      { partition: 1, position: 7, time: '2026-03-02T06:14:09Z', key: '812345', headers: { site: 'quillhaven' }, format: 'broken json', value: '{"par' },
    ] as never);
  });

  it('shows what is there and its messages, broken ones marked', async () => {
    const view = await browser();
    expect(view.find('[data-test="source-hub.scan"]').text()).toContain('38.7');
    await view.find('[data-test="source-hub.scan"]').trigger('click');
    await flushPromises();
    const messages = view.find('[data-test=messages]');
    expect(messages.text()).toContain('1 @ 7');
    expect(messages.text()).toContain('site=quillhaven');
    expect(messages.find('.bad').text()).toBe('broken json');
  });

  it('asks for a column per inner field if told so, and keeps the edited statement', async () => {
    const propose = vi.spyOn(api, 'propose').mockResolvedValue(proposal as never);
    const run = vi.spyOn(api, 'run').mockResolvedValue([{ kind: 'done', message: 'created stream scan' }] as never);
    const view = await browser();
    await view.find('[data-test="source-hub.scan"]').trigger('click');
    await flushPromises();
    await view.findAll('[data-test=browser-view] button')[1].trigger('click');
    await view.find('[data-test=declare-flat] input').setValue(true);
    await view.find('[data-test=propose]').trigger('click');
    await flushPromises();
    expect(propose).toHaveBeenCalledWith('hub_log', {
      name: 'scan', kind: 'stream', options: { topic: 'hub.scan' }, format: 'json', flat: true,
    });
    expect(view.find('.columns').text()).toContain('scanner_id');
    const text = view.find('[data-test=declare-sql]');
    await text.setValue("CREATE STREAM edited (a VARCHAR) FROM hub_log (topic 'hub.scan') FORMAT json;");
    await view.find('[data-test=keep]').trigger('click');
    await flushPromises();
    expect(run).toHaveBeenCalledWith("CREATE STREAM edited (a VARCHAR) FROM hub_log (topic 'hub.scan') FORMAT json;");
    expect(view.find('[data-test=browser-message]').text()).toBe('created stream scan');
  });

  it('says what is wrong, with the way out', async () => {
    vi.spyOn(api, 'propose').mockRejectedValue(new api.ProblemError({ detail: 'the topic is empty', hint: 'declare the columns' }));
    const view = await browser();
    await view.find('[data-test="source-hub.scan"]').trigger('click');
    await flushPromises();
    await view.findAll('[data-test=browser-view] button')[1].trigger('click');
    await view.find('[data-test=propose]').trigger('click');
    await flushPromises();
    expect(view.find('[data-test=browser-problem]').text()).toContain('the topic is empty declare the columns');
  });

  it('proposes a view of another service as a table without a format', async () => {
    vi.spyOn(api, 'sources').mockResolvedValue([{ ...topic, name: 'gate_load', kind: 'view', partitions: 1, key: ['gate'] }] as never);
    const propose = vi.spyOn(api, 'propose').mockResolvedValue(proposal as never);
    const view = await browser('drip');
    await view.find('[data-test="source-gate_load"]').trigger('click');
    await flushPromises();
    await view.findAll('[data-test=browser-view] button')[1].trigger('click');
    await view.find('[data-test=propose]').trigger('click');
    await flushPromises();
    expect(propose).toHaveBeenCalledWith('hub_log', expect.objectContaining({ kind: 'table', options: { view: 'gate_load' }, format: null }));
  });
});

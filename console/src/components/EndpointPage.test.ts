import { flushPromises, mount } from '@vue/test-utils';
import { createPinia, setActivePinia } from 'pinia';
import PrimeVue from 'primevue/config';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import * as api from '../lib/api';
import { useCatalog } from '../stores/catalog';
import EndpointPage from './EndpointPage.vue';

describe('EndpointPage', () => {
  beforeEach(() => {
    setActivePinia(createPinia());
    vi.restoreAllMocks();
    useCatalog().objects = [
      {
        name: 'busiest_areas',
        kind: 'endpoint',
        columns: [
          { name: 'area', type: 'VARCHAR', nullable: false },
          { name: 'parcels', type: 'BIGINT', nullable: false },
        ],
        parameters: [
          { name: 'service', type: 'VARCHAR', required: false, default: 'next_day', comment: 'service level' },
          { name: 'n', type: 'INTEGER', required: true, default: null, check: 'n BETWEEN 1 AND 100' },
        ],
      },
    ] as never;
  });

  const page = () => mount(EndpointPage, { props: { name: 'busiest_areas' }, global: { plugins: [PrimeVue] } });

  it('calls with the values that are given, and shows what comes', async () => {
    const call = vi.spyOn(api, 'callEndpoint').mockResolvedValue({
      epoch: 7,
      rows: [{ area: 'QH-N4', parcels: 12 }],
      count: 1,
      rows_read: 340,
      elapsed_ms: 1.25,
    });
    const view = page();
    expect(view.text()).toContain('service level');
    expect(view.find('[data-test=parameter-service]').attributes('placeholder')).toBe('next_day');
    await view.find('[data-test=parameter-n]').setValue('3');
    expect(view.find('[data-test=address]').text()).toContain('/api/v1/endpoints/busiest_areas?n=3');
    await view.find('form').trigger('submit');
    await flushPromises();
    expect(call).toHaveBeenCalledWith('busiest_areas', { n: '3' });
    expect(view.find('[data-test=endpoint-strip]').text()).toContain('340 read');
    expect(view.find('[data-test=result]').text()).toContain('QH-N4');
  });

  it('goes on to the next page', async () => {
    const page1 = { epoch: 7, rows: [{ area: 'QH-N4', parcels: 12 }], count: 1, rows_read: 2, elapsed_ms: 1 };
    const call = vi.spyOn(api, 'callEndpoint').mockResolvedValueOnce({ ...page1, next: 'bWFyaw' });
    const view = page();
    await view.find('form').trigger('submit');
    await flushPromises();
    call.mockResolvedValueOnce({ ...page1, rows: [{ area: 'QH-S1', parcels: 3 }] });
    await view.find('[data-test=next-page]').trigger('click');
    await flushPromises();
    expect(call).toHaveBeenLastCalledWith('busiest_areas', { after: 'bWFyaw' });
    expect(view.find('[data-test=result]').text()).toContain('QH-S1');
    expect(view.find('[data-test=next-page]').exists()).toBe(false);
  });

  it('says what is wrong with a value', async () => {
    vi.spyOn(api, 'callEndpoint').mockRejectedValue(new api.ProblemError({ detail: 'parameter "n": no number' }));
    const view = page();
    await view.find('form').trigger('submit');
    await flushPromises();
    expect(view.find('[data-test=endpoint-strip]').text()).toContain('no number');
    await view.find('[data-test=close-endpoint]').trigger('click');
    expect(view.emitted('close')).toHaveLength(1);
  });
});

import { flushPromises, mount } from '@vue/test-utils';
import { createPinia, setActivePinia } from 'pinia';
import PrimeVue from 'primevue/config';
import { beforeEach, describe, expect, it, vi } from 'vitest';
import * as api from '../lib/api';
import { useWho } from '../stores/who';
import SignIn from './SignIn.vue';

describe('SignIn', () => {
  beforeEach(() => {
    setActivePinia(createPinia());
    vi.restoreAllMocks();
  });

  const door = () => mount(SignIn, { global: { plugins: [PrimeVue] } });

  it('is wanted once it is known that nobody is known', async () => {
    const who = useWho();
    expect(who.mustSignIn).toBe(false);
    vi.spyOn(api, 'whoAmI').mockResolvedValue({ role: null });
    await who.look();
    expect(who.mustSignIn).toBe(true);
    vi.spyOn(api, 'whoAmI').mockRejectedValue(new Error('no answer'));
    await who.look();
    expect(who.mustSignIn).toBe(false);
  });

  it('takes a token, without the blanks around it', async () => {
    const signIn = vi.spyOn(api, 'signIn').mockResolvedValue({ role: 'dispatch', owner: false });
    const page = door();
    await page.find('input').setValue('  drip_abc ');
    await page.find('form').trigger('submit');
    await flushPromises();
    expect(signIn).toHaveBeenCalledWith('drip_abc');
    expect(useWho().who?.role).toBe('dispatch');
    expect(useWho().isOwner).toBe(false);
  });

  it('says why somebody is not let in', async () => {
    vi.spyOn(api, 'signIn').mockRejectedValue(new api.ProblemError({ detail: 'the token is not known' }));
    const page = door();
    await page.find('input').setValue('drip_abc');
    await page.find('form').trigger('submit');
    await flushPromises();
    expect(page.find('[data-test=sign-in-problem]').text()).toBe('the token is not known');
  });

  it('forgets who signs out', async () => {
    vi.spyOn(api, 'signOut').mockResolvedValue();
    vi.spyOn(api, 'whoAmI').mockResolvedValue({ role: null });
    const who = useWho();
    who.who = { role: 'owner', owner: true };
    await who.signOut();
    expect(who.mustSignIn).toBe(true);
  });
});

import { defineStore } from 'pinia';
import { signIn, signOut, whoAmI, type Who } from '../lib/api';

/** Who is at the console, and whether that has to be said first. */
export const useWho = defineStore('who', {
  state: () => ({ who: null as Who | null, asked: false }),
  getters: {
    /** Whether somebody has to sign in before anything can be seen. */
    mustSignIn: (state) => state.asked && state.who?.role === null,
    isOwner: (state) => state.who?.owner === true,
  },
  actions: {
    async look() {
      try {
        this.who = await whoAmI();
        this.asked = true;
      } catch {
        this.asked = false; // the service does not answer, which is told elsewhere
      }
    },
    async signIn(token: string) {
      this.who = await signIn(token);
    },
    async signOut() {
      await signOut();
      await this.look();
    },
  },
});

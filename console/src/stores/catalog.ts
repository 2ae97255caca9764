import { defineStore } from 'pinia';
import { objects, ProblemError, type CatalogObject } from '../lib/api';

const REFRESH_MILLIS = 2000;

/** What exists in the service, asked again every two seconds while the page is seen. */
export const useCatalog = defineStore('catalog', {
  state: () => ({ objects: [] as CatalogObject[], epoch: 0, reachable: true }),
  actions: {
    async refresh() {
      try {
        const answer = await objects();
        this.objects = answer.objects;
        this.epoch = answer.epoch;
        this.reachable = true;
      } catch (e) {
        const unknown = e instanceof ProblemError && e.problem.status === 401;
        if (unknown) this.objects = [];
        this.reachable = unknown;
      }
    },
    watch() {
      void this.refresh();
      setInterval(() => {
        if (!document.hidden) void this.refresh();
      }, REFRESH_MILLIS);
    },
  },
});

import { defineStore } from 'pinia';
import { markRaw } from 'vue';
import { explainRefusal, ProblemError, run, type Change, type Column, type Problem } from '../lib/api';
import { LiveRows } from '../lib/live';
import type { Span } from '../lib/statements';
import { useCatalog } from './catalog';

/** Rows shown at most; a longer answer says how many it has. */
export const SHOWN_ROWS = 2000;

export interface Sheet {
  columns: Column[];
  live: LiveRows;
  /** Grows whenever the rows change, since the rows themselves are not watched. */
  version: number;
  epoch: number;
  elapsed: number | null;
  following: boolean;
}

/** The statement being run and its answer. */
export const useSheet = defineStore('sheet', {
  state: () => ({
    sheet: null as Sheet | null,
    messages: [] as string[],
    problem: null as (Problem & { from: number }) | null,
    running: false,
    source: null as EventSource | null,
  }),
  actions: {
    /** Forgets what was shown: it was for somebody else. */
    clear() {
      this.stop();
      this.sheet = null;
      this.messages = [];
      this.problem = null;
    },
    async execute(statement: Span) {
      this.stop();
      this.problem = null;
      this.messages = [];
      if (/^\s*follow\b/i.test(statement.text)) {
        this.follow(statement);
        return;
      }
      this.running = true;
      try {
        for (const result of await run(statement.text)) {
          if (result.kind === 'done') {
            this.messages.push(`${result.message} (epoch ${result.epoch})`);
            this.sheet = null;
            continue;
          }
          const live = markRaw(new LiveRows());
          live.reset(result.rows.map((row) => ({ weight: 1, row })), Date.now());
          this.sheet = {
            columns: result.columns,
            live,
            version: 1,
            epoch: result.epoch,
            elapsed: result.elapsed_ms,
            following: false,
          };
        }
      } catch (e) {
        this.fail(e, statement);
      } finally {
        this.running = false;
        void useCatalog().refresh();
      }
    },
    fail(e: unknown, statement: Span) {
      const problem = e instanceof ProblemError ? e.problem : { detail: String(e) };
      this.problem = { ...problem, from: statement.from };
      this.sheet = null;
    },
    follow(statement: Span) {
      this.running = true;
      const source = markRaw(new EventSource('/api/v1/follow?sql=' + encodeURIComponent(statement.text)));
      this.source = source;
      let answered = false;
      source.addEventListener('snapshot', (event) => {
        const data = JSON.parse((event as MessageEvent).data) as {
          epoch: number; columns: Column[]; changes: Change[];
        };
        answered = true;
        this.running = false;
        const live = markRaw(new LiveRows());
        live.reset(data.changes, Date.now());
        this.sheet = {
          columns: data.columns, live, version: 1, epoch: data.epoch, elapsed: null, following: true,
        };
      });
      source.addEventListener('changes', (event) => {
        const data = JSON.parse((event as MessageEvent).data) as { epoch: number; changes: Change[] };
        if (!this.sheet) return;
        this.sheet.live.apply(data.changes, Date.now());
        this.sheet.epoch = data.epoch;
        this.sheet.version++;
      });
      source.addEventListener('end', (event) => {
        this.messages.push(JSON.parse((event as MessageEvent).data) as string);
      });
      source.onerror = async () => {
        // A refused request does not come back; a lost connection reconnects by itself.
        if (answered || this.source !== source) return;
        this.stop();
        const problem = await explainRefusal(statement.text);
        if (problem) this.problem = { ...problem, from: statement.from };
      };
    },
    stop() {
      this.source?.close();
      this.source = null;
      this.running = false;
      if (this.sheet) this.sheet.following = false;
    },
    settle() {
      if (this.sheet) {
        this.sheet.live.settle(Date.now());
        this.sheet.version++;
      }
    },
  },
});

<script setup lang="ts">
import { computed, reactive } from 'vue';
import type { CatalogObject } from '../lib/api';
import { ago, count, size } from '../lib/format';
import { useCatalog } from '../stores/catalog';
import { useWho } from '../stores/who';

const emit = defineEmits<{ ask: [statement: string]; look: [connection: string]; connect: []; call: [endpoint: string] }>();
const catalog = useCatalog();
const who = useWho();
const open = reactive(new Set<string>());

const connections = computed(() => catalog.objects.filter((o) => o.kind === 'connection'));
const groups = computed(() => [
  { title: 'Streams', items: catalog.objects.filter((o) => o.kind === 'stream') },
  { title: 'Tables', items: catalog.objects.filter((o) => o.kind === 'table') },
  { title: 'Views', items: catalog.objects.filter((o) => o.kind.endsWith('view')) },
  { title: 'Sinks', items: catalog.objects.filter((o) => o.kind === 'sink') },
  { title: 'Endpoints', items: catalog.objects.filter((o) => o.kind === 'endpoint') },
]);
/** Rows of a relation, what a sink has carried, or how often an endpoint was called. */
function rows(o: CatalogObject): number | undefined {
  if (o.kind === 'endpoint') return o.calls;
  return o.delivery ? o.delivery.put + o.delivery.changed + o.delivery.removed : (o.rows ?? o.events);
}

function toggle(name: string) {
  if (!open.delete(name)) open.add(name);
}
function title(o: CatalogObject): string {
  const parts: string[] = [o.kind];
  if (o.key) parts.push('key ' + o.key.join(', '));
  if (o.watermark) parts.push('watermark ' + o.watermark);
  if (o.rejects) parts.push(o.rejects + ' rejects');
  if (o.health && o.health !== 'ok') parts.push(o.health);
  return parts.join(' · ');
}
/** What is known of it at night: how far time has come, what was left out, what is kept. */
function facts(o: CatalogObject): string[] {
  const all: string[] = [];
  if (o.refreshed_at) all.push(`${o.upkeep}, last ${ago(o.refreshed_at, Date.now())} ago`);
  if (o.delivery) {
    const d = o.delivery;
    all.push(`${d.rows} to ${d.connection}, ${d.upkeep}`);
    all.push(d.epoch ? `${d.state}, up to epoch ${d.epoch}` : d.state);
    if (d.waiting_rows && d.waiting_since) {
      all.push(`${count(d.waiting_rows)} rows behind, ${ago(d.waiting_since, Date.now())}`);
    }
    if (d.error) all.push(d.error);
  }
  if (o.waiting_rows) all.push(`${count(o.waiting_rows)} rows wait`);
  if (o.watermark) all.push(`up to ${o.watermark.slice(11, 19)}, ${ago(o.watermark, Date.now())} behind`);
  if (o.late) all.push(`${count(o.late)} late`);
  if (o.rejects) all.push(`${count(o.rejects)} rejects`);
  if (o.state_bytes) all.push(`${size(o.state_bytes)} of state`);
  return all;
}
const type = (text: string) => (text.startsWith('ROW(') ? 'row' : text.toLowerCase());
</script>

<template>
  <nav class="side" aria-label="connections, streams, tables, views, sinks and endpoints">
    <section>
      <h2>Connections <button v-if="who.isOwner" type="button" class="add" title="make a connection" data-test="connect" @click="emit('connect')">+</button></h2>
      <p v-if="connections.length === 0" class="none">none yet</p>
      <div v-for="c in connections" :key="c.name" class="line" :data-test="'connection-' + c.name">
        <button type="button" class="name" :title="c.health" @click="emit('look', c.name)">
          <span class="twist">◦</span>{{ c.name }}
          <span v-if="c.health && c.health !== 'ok'" class="bad">!</span>
        </button>
        <span class="rows">{{ c.type }}</span>
      </div>
    </section>
    <section v-for="group in groups" :key="group.title">
      <h2>{{ group.title }}</h2>
      <p v-if="group.items.length === 0" class="none">none yet</p>
      <div v-for="o in group.items" :key="o.name" class="object" :data-test="'object-' + o.name">
        <div class="line">
          <button type="button" class="name" :aria-expanded="open.has(o.name)" :title="title(o)" @click="toggle(o.name)">
            <span class="twist">{{ open.has(o.name) ? '▾' : '▸' }}</span>{{ o.name }}
            <span v-if="o.health && o.health !== 'ok'" class="bad">!</span>
          </button>
          <span class="rows">{{ count(rows(o)) }}</span>
          <button v-if="o.kind === 'endpoint'" type="button" class="ask" title="try it" @click="emit('call', o.name)">↗</button>
          <button v-else-if="o.kind !== 'sink'" type="button" class="ask" title="write FOLLOW for it" @click="emit('ask', `FOLLOW SELECT * FROM ${o.name};`)">⤷</button>
        </div>
        <ul v-if="open.has(o.name)">
          <li v-for="p in o.parameters" :key="p.name">
            <span class="key">:{{ p.name }}</span>
            <span class="type">{{ type(p.type) }}{{ p.required ? '' : p.default === null ? ', optional' : ' = ' + p.default }}</span>
          </li>
          <li v-for="c in o.columns" :key="c.name">
            <span :class="{ key: o.key?.includes(c.name) }">{{ c.name }}</span>
            <span class="type">{{ type(c.type) }}</span>
          </li>
          <li v-for="fact in facts(o)" :key="fact" class="fact">{{ fact }}</li>
        </ul>
      </div>
    </section>
  </nav>
</template>

<style scoped>
.side { height: 100%; overflow-y: auto; padding: 4px 0 16px; background: var(--paper); }
h2 { font: 600 15px var(--serif); margin: 16px 16px 4px; padding-bottom: 3px; border-bottom: 1px solid var(--rule); }
.add { all: unset; cursor: pointer; float: right; color: var(--accent); padding: 0 4px; }
.none { margin: 4px 16px; color: var(--faded); font-style: italic; }
.line { display: flex; align-items: baseline; padding: 0 10px 0 12px; }
.line:hover { background: var(--shade); }
.name { all: unset; cursor: pointer; flex: 1; padding: 3px 0; font: 13px var(--mono); overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.name:focus-visible, .ask:focus-visible { outline: 2px solid var(--accent); }
.twist { display: inline-block; width: 16px; color: var(--faded); font-size: 11px; }
.rows { font: 12.5px var(--mono); color: var(--faded); text-align: right; padding: 0 6px; }
.ask { all: unset; cursor: pointer; color: var(--accent); padding: 0 4px; opacity: 0.55; }
.line:hover .ask, .ask:focus-visible { opacity: 1; }
.bad { color: var(--went); font-weight: 600; }
ul { list-style: none; margin: 0 0 6px; padding: 0 12px 0 28px; font: 12.5px var(--mono); }
li { display: flex; justify-content: space-between; gap: 12px; padding: 1px 0; border-bottom: 1px dotted var(--rule); }
.type { color: var(--faded); text-align: right; }
.fact { color: var(--faded); font-style: italic; border-bottom: none; }
.key { border-bottom: 1.5px solid var(--red-rule); }
</style>

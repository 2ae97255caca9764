<script setup lang="ts">
import Button from 'primevue/button';
import Checkbox from 'primevue/checkbox';
import InputNumber from 'primevue/inputnumber';
import InputText from 'primevue/inputtext';
import Select from 'primevue/select';
import SelectButton from 'primevue/selectbutton';
import Textarea from 'primevue/textarea';
import { computed, onMounted, ref, watch } from 'vue';
import { createTopic, peek, ProblemError, propose, run, sources, type Problem, type Proposal, type RawMessage, type Source } from '../lib/api';
import { count, size } from '../lib/format';
import { useCatalog } from '../stores/catalog';

const props = defineProps<{ connection: string }>();
const emit = defineEmits<{ close: [] }>();
const catalog = useCatalog();

const all = ref<Source[]>([]);
const chosen = ref<Source | null>(null);
const view = ref<'Messages' | 'Declare'>('Messages');
const from = ref('latest');
const messages = ref<RawMessage[]>([]);
const problem = ref<Problem | null>(null);
const busy = ref(false);
const message = ref('');

const name = ref('');
const kind = ref<'stream' | 'table'>('stream');
const format = ref('json');
const flat = ref(false);
const proposal = ref<Proposal | null>(null);
const sql = ref('');
const topic = ref('');
const partitions = ref(1);

const type = computed(() => catalog.objects.find((o) => o.name === props.connection)?.type);
const formats = computed(() =>
  type.value === 'file' ? ['json', 'csv', 'avro', 'parquet', 'text'] : ['json', 'csv', 'avro', 'protobuf', 'text', 'bytes'],
);

// Rows that change, of which no format has to be told.
const keyed = (source: Source) => source.kind === 'table' || source.kind === 'view';

const inner = computed(() => ['json', 'avro', 'protobuf', 'parquet'].includes(format.value));

async function guarded(work: () => Promise<void>) {
  busy.value = true;
  problem.value = null;
  message.value = '';
  try {
    await work();
  } catch (e) {
    problem.value = e instanceof ProblemError ? e.problem : { detail: String(e) };
  } finally {
    busy.value = false;
  }
}

const load = () => guarded(async () => { all.value = await sources(props.connection); });

function choose(source: Source) {
  chosen.value = source;
  proposal.value = null;
  name.value = source.name.replace(/\.[a-z]+$/, (end) => (source.kind === 'file' ? '' : end)).replace(/^.*\./, '').replace(/\W/g, '_').toLowerCase();
  kind.value = keyed(source) ? 'table' : 'stream';
  void show();
}

const show = () => guarded(async () => {
  if (chosen.value) messages.value = await peek(props.connection, chosen.value.name, from.value, 50);
});

const look = () => guarded(async () => {
  const source = chosen.value!;
  const option = { topic: 'topic', table: 'table', file: 'files', view: 'view' }[source.kind];
  proposal.value = await propose(props.connection, {
    name: name.value,
    kind: kind.value,
    options: { [option]: source.name },
    format: keyed(source) ? null : format.value,
    flat: flat.value && inner.value,
  });
  sql.value = proposal.value.sql + ';';
});

const keep = () => guarded(async () => {
  const results = await run(sql.value);
  message.value = results.map((r) => (r.kind === 'done' ? r.message : '')).join(' ');
  await catalog.refresh();
});

const make = () => guarded(async () => {
  await createTopic(props.connection, topic.value, partitions.value, null);
  message.value = `made topic ${topic.value}`;
  topic.value = '';
  all.value = await sources(props.connection);
});

watch(from, () => void show());
onMounted(load);
</script>

<template>
  <div class="browser" data-test="browser">
    <div class="bar">
      <h2>{{ connection }}</h2><span class="faded">{{ type }}</span>
      <span v-if="problem" class="bad" data-test="browser-problem">{{ problem.detail }} <span class="faded">{{ problem.hint }}</span></span>
      <span v-else-if="message" class="good" data-test="browser-message">{{ message }}</span>
      <Button class="close" size="small" text label="Back to statements" data-test="browser-close" @click="emit('close')" />
    </div>
    <div class="parts">
      <div class="list">
        <table>
          <thead><tr><th>name</th><th class="n">messages</th><th class="n">size</th><th class="n">/s</th></tr></thead>
          <tbody>
            <tr v-for="s in all" :key="s.name" :class="{ chosen: chosen?.name === s.name }" :data-test="'source-' + s.name" @click="choose(s)">
              <td><button type="button" class="plain" :title="s.note ?? s.kind">{{ s.name }}</button><span v-if="s.note" class="bad" :title="s.note">!</span></td>
              <td class="n">{{ s.messages === null ? '·' : count(s.messages) }}</td>
              <td class="n">{{ s.bytes === null ? '·' : size(s.bytes) }}</td>
              <td class="n">{{ s.per_second ?? '·' }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="all.length === 0 && !busy" class="faded pad">there is nothing behind it</p>
        <form v-if="type === 'kafka'" class="make" @submit.prevent="make">
          <InputText v-model="topic" size="small" placeholder="new topic" aria-label="name of a new topic" />
          <InputNumber v-model="partitions" size="small" :min="1" :max="1000" aria-label="partitions" input-class="few" />
          <Button size="small" outlined label="Make" type="submit" :disabled="!topic" />
        </form>
      </div>
      <div v-if="chosen" class="detail">
        <div class="bar thin">
          <SelectButton v-model="view" :options="['Messages', 'Declare']" :allow-empty="false" size="small" data-test="browser-view" />
          <Select v-if="view === 'Messages' && chosen.kind === 'topic'" v-model="from" :options="['latest', 'earliest']" size="small" aria-label="from where" />
          <template v-else-if="view === 'Declare'">
            <InputText v-model="name" size="small" aria-label="name" class="name" data-test="declare-name" />
            <SelectButton v-if="!keyed(chosen)" v-model="kind" :options="['stream', 'table']" :allow-empty="false" size="small" />
            <Select v-if="!keyed(chosen)" v-model="format" :options="formats" size="small" aria-label="format" />
            <label v-if="!keyed(chosen)" class="flat" :class="{ faded: !inner }" title="instead of a ROW for each object inside of messages">
              <Checkbox v-model="flat" binary size="small" :disabled="!inner" data-test="declare-flat" /> a column per inner field
            </label>
            <Button size="small" label="Propose" :loading="busy" data-test="propose" @click="look" />
          </template>
        </div>
        <div v-if="view === 'Messages'" class="scroll" data-test="messages">
          <div v-for="m in messages" :key="m.partition + ':' + m.position" class="message">
            <div class="head">
              <span>{{ m.partition }} @ {{ m.position }}</span><span>{{ m.time?.replace('T', ' ').replace('Z', '') }}</span>
              <span v-if="m.key">key {{ m.key }}</span><span :class="{ bad: m.format.startsWith('broken') }">{{ m.format }}</span>
              <span v-for="(value, header) in m.headers" :key="header">{{ header }}={{ value }}</span>
            </div>
            <code>{{ m.value ?? m.value_base64 ?? '(no value)' }}</code>
          </div>
          <p v-if="messages.length === 0 && !busy" class="faded pad">there is nothing</p>
        </div>
        <div v-else-if="proposal" class="scroll">
          <table class="columns">
            <thead><tr><th>column</th><th>type</th><th class="n">missing</th><th>example</th><th>conflict</th></tr></thead>
            <tbody>
              <tr v-for="c in proposal.columns" :key="c.name">
                <td>{{ c.name }}</td><td>{{ c.type.toLowerCase() }}{{ c.nullable ? '' : ' not null' }}</td><td class="n">{{ c.missing }}</td>
                <td class="example">{{ c.example ?? '·' }}</td><td class="bad">{{ c.conflict }}</td>
              </tr>
            </tbody>
          </table>
          <p class="faded pad">{{ count(proposal.sampled) }} messages looked at, {{ count(proposal.unread) }} of them could not be read. Change the statement as you like.</p>
          <Textarea v-model="sql" class="sql" rows="11" spellcheck="false" aria-label="the statement" data-test="declare-sql" />
          <Button size="small" label="Keep" :loading="busy" data-test="keep" @click="keep" />
        </div>
        <p v-else class="faded pad">Propose reads a sample and writes the statement for you.</p>
      </div>
      <p v-else class="faded pad">Choose what to look at.</p>
    </div>
  </div>
</template>

<style scoped>
.browser { height: 100%; width: 100%; display: flex; flex-direction: column; background: var(--sheet); }
.bar { display: flex; align-items: center; gap: 12px; padding: 5px 14px; border-bottom: 1px solid var(--rule); background: var(--shade); min-height: 40px; font-size: 13px; }
.bar h2 { font: 600 16px var(--serif); margin: 0; }
.bar.thin { background: var(--sheet); flex-wrap: wrap; gap: 6px 8px; }
.close { margin-left: auto; }
.parts { flex: 1; min-height: 0; display: flex; }
.list { width: 32%; min-width: 260px; overflow: auto; border-right: 1px solid var(--rule); }
.detail { flex: 1; min-width: 0; display: flex; flex-direction: column; }
.scroll { flex: 1; overflow: auto; padding-bottom: 12px; }
table { width: 100%; border-collapse: collapse; font: 12.5px var(--mono); }
th { font: 600 12.5px var(--sans); text-align: left; color: var(--faded); padding: 5px 10px; border-bottom: 1px solid var(--rule); }
td { padding: 4px 10px; border-bottom: 1px dotted var(--rule); vertical-align: top; }
.n { text-align: right; }
.list tbody tr { cursor: pointer; }
.list tbody tr:hover, .chosen { background: var(--shade); }
.plain { all: unset; cursor: pointer; }
.plain:focus-visible { outline: 2px solid var(--accent); }
.message { padding: 6px 14px; border-bottom: 1px dotted var(--rule); }
.head { display: flex; flex-wrap: wrap; gap: 4px 16px; color: var(--faded); font: 12px var(--mono); }
code { font: 12.5px var(--mono); word-break: break-all; }
.make { display: flex; gap: 6px; padding: 12px 10px; }
.make :deep(input) { width: 100%; }
.make :deep(.few) { width: 56px; }
.name { width: 120px; }
.flat { display: flex; align-items: center; gap: 6px; }
.sql { display: block; width: calc(100% - 28px); margin: 0 14px 10px; font: 13px/1.5 var(--mono); }
.sql + :deep(button) { margin-left: 14px; }
.example { max-width: 200px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.pad { padding: 6px 14px; margin: 0; }
.faded { color: var(--faded); }
.bad { color: var(--went); }
.good { color: var(--came); font-weight: 600; }
</style>

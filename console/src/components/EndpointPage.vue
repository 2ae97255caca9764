<script setup lang="ts">
import Button from 'primevue/button';
import InputText from 'primevue/inputtext';
import { computed, markRaw, reactive, ref, shallowRef } from 'vue';
import { callEndpoint, endpointPath, ProblemError, type EndpointAnswer, type Problem } from '../lib/api';
import { count } from '../lib/format';
import { LiveRows } from '../lib/live';
import { useCatalog } from '../stores/catalog';
import ResultTable from './ResultTable.vue';

const props = defineProps<{ name: string }>();
const emit = defineEmits<{ close: [] }>();
const catalog = useCatalog();

const endpoint = computed(() => catalog.objects.find((o) => o.name === props.name));
const values = reactive<Record<string, string>>({});
const answer = ref<EndpointAnswer | null>(null);
const live = shallowRef(markRaw(new LiveRows()));
const version = ref(0);
const problem = ref<Problem | null>(null);
const busy = ref(false);

/** What is left empty is not given: then its default holds, or its condition falls away. */
const given = computed(() => Object.fromEntries(Object.entries(values).filter(([, v]) => v !== '')));
const path = computed(() => endpointPath(props.name, given.value));
const address = computed(() => location.origin + path.value);

/** @param after where a page begins; the first one if it is left out */
async function call(after?: string) {
  busy.value = true;
  problem.value = null;
  try {
    const got = await callEndpoint(props.name, after ? { ...given.value, after } : given.value);
    const columns = endpoint.value?.columns ?? [];
    const rows = markRaw(new LiveRows());
    rows.reset(got.rows.map((r) => ({ weight: 1, row: columns.map((c) => r[c.name] ?? null) })), Date.now());
    live.value = rows;
    answer.value = got;
    version.value++;
  } catch (e) {
    answer.value = null;
    problem.value = e instanceof ProblemError ? e.problem : { detail: String(e) };
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <div class="page" data-test="endpoint">
    <div class="bar">
      <h2>{{ name }}</h2>
      <span class="faded">{{ endpoint?.description }}</span>
      <Button class="close" text size="small" label="Close" data-test="close-endpoint" @click="emit('close')" />
    </div>
    <form class="parameters" @submit.prevent="call()">
      <label v-for="p in endpoint?.parameters" :key="p.name" :title="p.check ?? undefined">
        <span class="name">:{{ p.name }}</span>
        <InputText
          v-model="values[p.name]"
          size="small"
          :required="p.required"
          :placeholder="p.default ?? (p.required ? 'needed' : 'left out')"
          :data-test="'parameter-' + p.name"
        />
        <span class="faded">{{ p.type.toLowerCase() }}<template v-if="p.comment">, {{ p.comment }}</template><template v-if="p.check">; {{ p.check }}</template></span>
      </label>
      <Button type="submit" size="small" label="Call" :loading="busy" data-test="call" />
    </form>
    <div class="address">
      <code data-test="address">{{ address }}</code>
      <span>
        as
        <a v-for="form in ['json', 'csv', 'ndjson', 'parquet', 'arrow']" :key="form" :href="endpointPath(name + '.' + form, given)" target="_blank" rel="noopener">{{ form }}</a>
      </span>
    </div>
    <div class="strip" data-test="endpoint-strip">
      <template v-if="problem">
        <strong class="bad">{{ problem.detail }}</strong><span v-if="problem.hint">{{ problem.hint }}</span>
      </template>
      <template v-else-if="answer">
        <span><b>{{ count(answer.count) }}</b> {{ answer.count === 1 ? 'row' : 'rows' }}</span>
        <span>{{ count(answer.rows_read) }} read</span>
        <span>epoch {{ count(answer.epoch) }}</span>
        <span>{{ answer.elapsed_ms.toFixed(1) }} ms</span>
        <Button v-if="answer.next" text size="small" label="Next page" data-test="next-page" @click="call(answer.next)" />
      </template>
      <span v-else class="faded">The answer appears here.</span>
    </div>
    <div class="sheet">
      <ResultTable v-if="answer && endpoint" :columns="endpoint.columns" :rows="live.rows()" :version="version" />
    </div>
  </div>
</template>

<style scoped>
.page { height: 100%; width: 100%; display: flex; flex-direction: column; background: var(--sheet); }
.bar { display: flex; align-items: center; gap: 12px; padding: 5px 14px; border-bottom: 1px solid var(--rule); background: var(--shade); min-height: 40px; font-size: 13px; }
h2 { font: 600 16px var(--serif); margin: 0; }
.close { margin-left: auto; }
.parameters { display: flex; flex-direction: column; gap: 8px; padding: 14px; align-items: flex-start; }
label { display: flex; align-items: center; gap: 12px; font-size: 13px; }
.name { width: 110px; font: 13px var(--mono); text-align: right; overflow: hidden; text-overflow: ellipsis; }
.parameters :deep(button) { margin-left: 122px; }
.address { display: flex; flex-wrap: wrap; gap: 6px 18px; padding: 8px 14px; border-top: 1px solid var(--rule); font-size: 13px; }
.address a { margin-left: 8px; color: var(--accent); }
code { font: 12.5px var(--mono); word-break: break-all; }
.strip { display: flex; flex-wrap: wrap; gap: 6px 18px; align-items: center; min-height: 34px; padding: 4px 14px; background: var(--shade); border-top: 1px solid var(--rule); border-bottom: 1px solid var(--rule); font-size: 13px; }
.sheet { flex: 1; min-height: 0; overflow: auto; }
.faded { color: var(--faded); }
.bad { color: var(--went); font-weight: 600; }
</style>

<script setup lang="ts">
import Button from 'primevue/button';
import SelectButton from 'primevue/selectbutton';
import Splitter from 'primevue/splitter';
import SplitterPanel from 'primevue/splitterpanel';
import { computed, defineAsyncComponent, onMounted, ref, watch } from 'vue';
import ResultTable from './components/ResultTable.vue';
import SideList from './components/SideList.vue';
import SignIn from './components/SignIn.vue';
import ConnectForm from './components/ConnectForm.vue';
import EndpointPage from './components/EndpointPage.vue';
import SourceBrowser from './components/SourceBrowser.vue';
import SqlEditor from './components/SqlEditor.vue';
import { count, isNumber, isTime } from './lib/format';
import { whenUnknown } from './lib/api';
import { useCatalog } from './stores/catalog';
import { SHOWN_ROWS, useSheet } from './stores/sheet';
import { useWho } from './stores/who';

// The chart is heavy and not always wanted.
const ResultChart = defineAsyncComponent(() => import('./components/ResultChart.vue'));

const catalog = useCatalog();
const store = useSheet();
const who = useWho();
const editor = ref<InstanceType<typeof SqlEditor>>();
const form = ref<'Table' | 'Chart'>('Table');
const looking = ref<string | null>(null);
const calling = ref<string | null>(null);
const connecting = ref(false);
const night = ref(
  (localStorage.getItem('drip.night') ?? String(matchMedia('(prefers-color-scheme: dark)').matches)) === 'true',
);

watch(
  night,
  (on) => {
    document.documentElement.classList.toggle('night', on);
    localStorage.setItem('drip.night', String(on));
  },
  { immediate: true },
);

const chartable = computed(
  () => !!store.sheet && store.sheet.columns.some(isTime) && store.sheet.columns.some(isNumber),
);
const rows = computed(() => {
  void store.sheet?.version;
  return store.sheet?.live.size ?? 0;
});

whenUnknown(() => void who.look());
watch(
  () => who.who?.role,
  (role) => {
    if (role) {
      void catalog.refresh();
      return;
    }
    store.clear();
    connecting.value = false;
    looking.value = null;
    calling.value = null;
  },
);

onMounted(() => {
  void who.look();
  catalog.watch();
  setInterval(() => store.settle(), 700);
});
</script>

<template>
  <div class="page">
    <header>
      <img src="/drop.svg" alt="" width="22" height="22" />
      <h1>Drip Ledger</h1>
      <span class="epoch" data-test="epoch">
        <template v-if="who.mustSignIn" />
        <template v-else-if="catalog.reachable">epoch {{ count(catalog.epoch) }}</template>
        <em v-else>the service does not answer</em>
      </span>
      <span v-if="who.who?.role" class="who" data-test="who">
        {{ who.who.role }}<template v-if="who.who.open"> · whoever is on this machine</template>
      </span>
      <Button
        v-if="who.who?.role && !who.who.open"
        text
        size="small"
        label="Sign out"
        data-test="sign-out"
        @click="who.signOut()"
      />
      <Button
        text
        size="small"
        :label="night ? 'Day' : 'Night'"
        data-test="night"
        aria-label="day or night colours"
        @click="night = !night"
      />
    </header>
    <SignIn v-if="who.mustSignIn" />
    <Splitter v-else class="body">
      <SplitterPanel :size="22" :min-size="12"><SideList
          @ask="(statement) => { looking = null; calling = null; editor?.ask(statement); }"
          @look="(connection) => { calling = null; looking = connection; }"
          @call="(endpoint) => { looking = null; calling = endpoint; }"
          @connect="connecting = true"
        /></SplitterPanel>
      <SplitterPanel :size="78" :min-size="40">
        <SourceBrowser v-if="looking" :key="looking" :connection="looking" @close="looking = null" />
        <EndpointPage v-else-if="calling" :key="calling" :name="calling" @close="calling = null" />
        <Splitter v-show="!looking && !calling" layout="vertical" class="work">
          <SplitterPanel :size="38" :min-size="15">
            <div class="top">
              <SqlEditor ref="editor" @run="store.execute" />
              <div class="actions">
                <Button size="small" label="Run" title="Ctrl+Enter" data-test="run" :loading="store.running && !store.source" @click="editor?.runCurrent()" />
                <Button v-if="store.source" size="small" severity="secondary" outlined label="Stop following" data-test="stop" @click="store.stop()" />
              </div>
            </div>
          </SplitterPanel>
          <SplitterPanel :size="62" :min-size="20">
            <div class="answer">
              <div class="strip" data-test="strip">
                <template v-if="store.problem">
                  <strong class="bad" data-test="problem">
                    <template v-if="store.problem.line">line {{ store.problem.line }}, column {{ store.problem.column }}: </template>{{ store.problem.detail }}
                  </strong>
                  <span v-if="store.problem.hint">{{ store.problem.hint }}</span>
                </template>
                <template v-else-if="store.sheet">
                  <span><b data-test="rows">{{ count(rows) }}</b> {{ rows === 1 ? 'row' : 'rows' }}</span>
                  <span>epoch {{ count(store.sheet.epoch) }}</span>
                  <span v-if="store.sheet.elapsed !== null">{{ store.sheet.elapsed.toFixed(1) }} ms</span>
                  <span v-if="store.sheet.following" class="following">following</span>
                  <span v-if="rows > SHOWN_ROWS">the first {{ count(SHOWN_ROWS) }} are shown</span>
                </template>
                <span v-for="(m, i) in store.messages" :key="i" data-test="message">{{ m }}</span>
                <span v-if="!store.problem && !store.sheet && store.messages.length === 0" class="faded">
                  The answer appears here. Ctrl+Enter runs the statement the cursor is in.
                </span>
                <SelectButton v-if="chartable && !store.problem" v-model="form" :options="['Table', 'Chart']" :allow-empty="false" size="small" class="form" data-test="form" />
              </div>
              <div v-if="store.sheet && !store.problem" class="sheet">
                <ResultChart v-if="form === 'Chart' && chartable" :columns="store.sheet.columns" :rows="store.sheet.live.rows()" :version="store.sheet.version" :night="night" />
                <ResultTable v-else :columns="store.sheet.columns" :rows="store.sheet.live.rows()" :version="store.sheet.version" />
              </div>
              <div v-else class="sheet blank"></div>
            </div>
          </SplitterPanel>
        </Splitter>
      </SplitterPanel>
    </Splitter>
    <ConnectForm v-model:visible="connecting" @made="(name) => { catalog.refresh(); looking = name; }" />
  </div>
</template>

<style scoped>
.page { height: 100%; display: flex; flex-direction: column; }
header { display: flex; align-items: center; gap: 10px; padding: 7px 16px; border-bottom: 3px double var(--ink); }
h1 { font: 600 20px var(--serif); margin: 0; letter-spacing: 0.01em; }
.epoch { margin-left: auto; font: 13px var(--mono); color: var(--faded); }
.who { font-size: 13px; color: var(--faded); }
.epoch em { color: var(--went); }
.body { flex: 1; min-height: 0; border: 0; border-radius: 0; background: var(--paper); }
.work { height: 100%; border: 0; border-radius: 0; background: var(--sheet); }
.body :deep(.p-splitterpanel) { min-width: 0; min-height: 0; overflow: hidden; }
.body :deep(.p-splitter-gutter) { background: var(--rule); }
.top { height: 100%; width: 100%; position: relative; }
.actions { position: absolute; right: 14px; bottom: 10px; display: flex; gap: 8px; }
.answer { height: 100%; width: 100%; display: flex; flex-direction: column; background: var(--sheet); }
.strip { display: flex; flex-wrap: wrap; align-items: center; gap: 6px 18px; min-height: 40px; padding: 4px 14px; background: var(--shade); border-bottom: 1px solid var(--rule); font-size: 13px; }
.strip .form { margin-left: auto; }
.bad { color: var(--went); font-weight: 600; }
.faded { color: var(--faded); }
.following::before { content: '●'; color: var(--came); margin-right: 6px; }
.sheet { flex: 1; min-height: 0; overflow: auto; background: var(--sheet); }
.blank { background: repeating-linear-gradient(var(--sheet) 0 25px, var(--rule) 25px 26px); }
</style>

<script setup lang="ts">
import { LineChart } from 'echarts/charts';
import { DataZoomInsideComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components';
import { init, use, type EChartsType } from 'echarts/core';
import { CanvasRenderer } from 'echarts/renderers';
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue';
import type { Column } from '../lib/api';
import { isNumber, isTime } from '../lib/format';
import type { LiveRow } from '../lib/live';

use([LineChart, DataZoomInsideComponent, GridComponent, TooltipComponent, LegendComponent, CanvasRenderer]);

const MAX_SERIES = 8;
const props = defineProps<{ columns: Column[]; rows: LiveRow[]; version: number; night: boolean }>();
const host = ref<HTMLElement>();
const measure = ref(-1);
let chart: EChartsType | null = null;

const time = computed(() => props.columns.findIndex(isTime));
const measures = computed(() => props.columns.flatMap((c, i) => (isNumber(c) ? [i] : [])));
const chosen = computed(() => (measures.value.includes(measure.value) ? measure.value : (measures.value[0] ?? -1)));
const labels = computed(() => props.columns.flatMap((c, i) => (i !== time.value && !isNumber(c) ? [i] : [])));
const total = ref(0);

function series() {
  const lines = new Map<string, [string, number][]>();
  for (const r of props.rows) {
    const at = r.row[time.value];
    const value = r.row[chosen.value];
    if (r.mark === 'went' || at === null || value === null) continue;
    const name = labels.value.map((i) => String(r.row[i])).join(' · ') || props.columns[chosen.value].name;
    if (!lines.has(name)) lines.set(name, []);
    lines.get(name)!.push([String(at), Number(value)]);
  }
  total.value = lines.size;
  return [...lines.entries()]
    .sort((a, b) => (a[0] < b[0] ? -1 : 1))
    .slice(0, MAX_SERIES)
    .map(([name, data]) => ({
      name, type: 'line' as const, data: data.sort((a, b) => (a[0] < b[0] ? -1 : 1)), showSymbol: data.length < 40,
      symbolSize: 4, lineStyle: { width: 1.8 }, animation: false,
    }));
}

function draw() {
  if (!chart || time.value < 0 || chosen.value < 0) return;
  const style = getComputedStyle(document.documentElement);
  const ink = style.getPropertyValue('--ink').trim();
  const faded = style.getPropertyValue('--faded').trim();
  const rule = style.getPropertyValue('--rule').trim();
  const sheet = style.getPropertyValue('--sheet').trim();
  const font = { fontFamily: 'IBM Plex Sans', color: ink };
  const lines = series();
  chart.setOption(
    {
      textStyle: font,
      color: props.night
        ? ['#86b6c4', '#e0a08d', '#9fc78c', '#d8ab5e', '#b7a3d0', '#d08fb0', '#8fd0c0', '#c9c3b0']
        : ['#1f4e5f', '#a8433a', '#2e6b3f', '#a87a1c', '#5d4a86', '#8a3b66', '#2f8577', '#6d6a5c'],
      grid: { left: 64, right: 24, top: lines.length > 1 ? 44 : 20, bottom: 36 },
      legend: { show: lines.length > 1, top: 8, textStyle: font, icon: 'roundRect', itemHeight: 3 },
      tooltip: { trigger: 'axis', backgroundColor: sheet, borderColor: rule, textStyle: font },
      xAxis: { type: 'time', axisLine: { lineStyle: { color: ink } }, axisLabel: { color: faded } },
      yAxis: {
        type: 'value', name: props.columns[chosen.value].name, nameTextStyle: { color: faded },
        splitLine: { lineStyle: { color: rule } }, axisLabel: { color: faded },
      },
      dataZoom: [{ type: 'inside', filterMode: 'none' }],
      series: lines,
    },
    { replaceMerge: ['series'] },
  );
}

const resize = new ResizeObserver(() => chart?.resize());
onMounted(() => {
  chart = init(host.value!);
  resize.observe(host.value!);
  draw();
});
onBeforeUnmount(() => {
  resize.disconnect();
  chart?.dispose();
});
watch(() => [props.version, props.night, chosen.value, props.columns], draw);
</script>

<template>
  <div class="chart">
    <div class="bar">
      <label v-if="measures.length > 1">
        value
        <select :value="chosen" @change="measure = Number(($event.target as HTMLSelectElement).value)">
          <option v-for="m in measures" :key="m" :value="m">{{ columns[m].name }}</option>
        </select>
      </label>
      <span>the wheel zooms, dragging moves</span>
      <span v-if="total > 8">{{ total }} lines; the first 8 by name are drawn</span>
    </div>
    <div ref="host" class="canvas" data-test="chart"></div>
  </div>
</template>

<style scoped>
.chart { height: 100%; display: flex; flex-direction: column; }
.bar { display: flex; gap: 18px; padding: 4px 14px; color: var(--faded); font-size: 12.5px; min-height: 10px; }
select { font: inherit; background: var(--sheet); color: var(--ink); border: 1px solid var(--rule); border-radius: 3px; }
.canvas { flex: 1; min-height: 0; }
</style>

<script setup lang="ts">
import { computed, ref } from 'vue';
import type { Column } from '../lib/api';
import { isNumber, show } from '../lib/format';
import type { LiveRow } from '../lib/live';
import { SHOWN_ROWS } from '../stores/sheet';

const props = defineProps<{ columns: Column[]; rows: LiveRow[]; version: number }>();
const sort = ref<{ column: number; down: boolean } | null>(null);

function sortBy(column: number) {
  const now = sort.value;
  if (now?.column !== column) sort.value = { column, down: false };
  else sort.value = now.down ? null : { column, down: true };
}

const shown = computed(() => {
  void props.version;
  const rows = [...props.rows];
  const by = sort.value;
  if (by) {
    const numeric = isNumber(props.columns[by.column]);
    rows.sort((a, b) => {
      const x = a.row[by.column];
      const y = b.row[by.column];
      if (x === null || y === null) return x === y ? 0 : x === null ? 1 : -1;
      const order = numeric ? Number(x) - Number(y) : String(x) < String(y) ? -1 : x === y ? 0 : 1;
      return by.down ? -order : order;
    });
  }
  // Marks are shown by their text, so the rows must be new objects for the table to see a change.
  return rows.slice(0, SHOWN_ROWS).map((r) => ({ ...r }));
});
const sign = (row: LiveRow) => ({ came: '+', went: '−', changed: '~' })[row.mark ?? 'came'];
</script>

<template>
  <table data-test="result">
    <thead>
      <tr>
        <th class="sign"></th>
        <th v-for="(c, i) in columns" :key="i" :class="{ number: isNumber(c) }">
          <button type="button" :title="`${c.type}${c.nullable ? '' : ' NOT NULL'} — sort`" @click="sortBy(i)">
            {{ c.name }}<span v-if="sort?.column === i">{{ sort.down ? ' ▾' : ' ▴' }}</span>
          </button>
        </th>
        <th class="rest"></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="row in shown" :key="row.id" :class="row.mark">
        <td class="sign">{{ row.mark ? sign(row) : row.weight > 1 ? '×' + row.weight : '' }}</td>
        <td
          v-for="(cell, i) in row.row"
          :key="i"
          :class="{ number: isNumber(columns[i]), nothing: cell === null, wet: row.changedCells.has(i) }"
        >
          {{ show(cell, columns[i]) }}
        </td>
        <td class="rest"></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table { border-collapse: separate; border-spacing: 0; width: 100%; font: 13px/1.4 var(--mono); }
th {
  position: sticky; top: 0; z-index: 1; background: var(--sheet); text-align: left; font-weight: 500;
  border-bottom: 2px solid var(--ink); padding: 0; white-space: nowrap;
}
th button { all: unset; cursor: pointer; padding: 6px 14px; font: 600 12.5px var(--sans); }
th button:focus-visible { outline: 2px solid var(--accent); }
td { padding: 3px 14px; border-bottom: 1px solid var(--rule); white-space: pre; max-width: 34em; overflow: hidden; text-overflow: ellipsis; }
.number { text-align: right; }
.sign { width: 34px; min-width: 34px; padding: 3px 6px; text-align: center; box-shadow: inset -1px 0 var(--red-rule), inset -3px 0 var(--sheet), inset -4px 0 var(--red-rule); }
td.sign { color: var(--faded); }
.rest { width: 100%; }
.nothing { color: var(--faded); }
tbody tr:hover td { background: color-mix(in srgb, var(--shade) 55%, transparent); }
tr.came td { background: var(--came-wash); }
tr.came .sign, tr.changed .sign { color: var(--came); font-weight: 500; }
tr.changed td.wet { background: var(--came-wash); color: var(--came); font-weight: 500; }
tr.went td { background: var(--went-wash); color: var(--went); text-decoration: line-through; }
tr.went .sign { text-decoration: none; }
td { transition: background-color 0.6s, color 0.6s; }
</style>

<script setup lang="ts">
import { autocompletion, closeBrackets, completionKeymap } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import { sql } from '@codemirror/lang-sql';
import { bracketMatching } from '@codemirror/language';
import { setDiagnostics } from '@codemirror/lint';
import { searchKeymap } from '@codemirror/search';
import { Compartment, EditorState, Prec } from '@codemirror/state';
import { EditorView, highlightActiveLine, highlightActiveLineGutter, keymap, lineNumbers } from '@codemirror/view';
import { onBeforeUnmount, onMounted, ref, watch } from 'vue';
import { dialect, look } from '../lib/highlight';
import { offsetOf, split, statementAt, type Span } from '../lib/statements';
import { useCatalog } from '../stores/catalog';
import { useSheet } from '../stores/sheet';

const emit = defineEmits<{ run: [statement: Span] }>();
const catalog = useCatalog();
const sheet = useSheet();
const host = ref<HTMLElement>();
const language = new Compartment();
let view: EditorView | null = null;

const STORED = 'drip.script';
const FIRST = `-- Ctrl+Enter runs the statement the cursor is in.
SELECT gate, window_minute, scans, mean_grams
FROM gate_load
ORDER BY window_minute DESC, gate
LIMIT 50;

-- FOLLOW shows the answer and then every change to it.
FOLLOW SELECT hall, window_minute, scans, busiest_gate_scans
FROM hall_load;
`;

function support() {
  const schema: Record<string, { label: string; detail: string; type: string }[]> = {};
  for (const object of catalog.objects) {
    schema[object.name] = object.columns.map((c) => ({
      label: c.name, detail: c.type.toLowerCase(), type: 'property',
    }));
  }
  // Columns are offered everywhere, not just behind the relation's name.
  const columns = [...new Map(Object.values(schema).flat().map((c) => [c.label, c])).values()];
  return [
    sql({ dialect, schema, upperCaseKeywords: true }),
    dialect.language.data.of({
      autocomplete: (context: import('@codemirror/autocomplete').CompletionContext) => {
        const word = context.matchBefore(/[A-Za-z_]\w*/);
        return word && !context.state.sliceDoc(word.from - 1, word.from).endsWith('.')
          ? { from: word.from, options: columns, validFor: /^\w*$/ }
          : null;
      },
    }),
  ];
}

/** Runs the statement under the cursor, or what is selected. */
function runCurrent(): boolean {
  if (!view) return true;
  const script = view.state.doc.toString();
  const { from, to, head } = view.state.selection.main;
  const statement: Span | null =
    from < to ? { from, to, text: script.slice(from, to) } : statementAt(script, head);
  if (statement) emit('run', statement);
  return true;
}

defineExpose({
  runCurrent,
  /** Puts a statement at the end of the script, the cursor into it, and runs it. */
  ask(text: string) {
    if (!view) return;
    const script = view.state.doc.toString();
    const end = script.length;
    const open = split(script).some((s) => s.to === script.trimEnd().length && !script.trimEnd().endsWith(';'));
    const lead = (open ? ';' : '') + (end === 0 ? '' : script.endsWith('\n') ? '\n' : '\n\n');
    view.dispatch({
      changes: { from: end, insert: lead + text + '\n' },
      selection: { anchor: end + lead.length + text.length },
      scrollIntoView: true,
    });
    view.focus();
    runCurrent();
  },
});

onMounted(() => {
  view = new EditorView({
    parent: host.value!,
    state: EditorState.create({
      doc: localStorage.getItem(STORED) ?? FIRST,
      selection: { anchor: localStorage.getItem(STORED) ? 0 : FIRST.indexOf('SELECT') },
      extensions: [
        Prec.highest(keymap.of([{ key: 'Mod-Enter', run: runCurrent }])),
        lineNumbers(),
        highlightActiveLine(),
        highlightActiveLineGutter(),
        history(),
        bracketMatching(),
        closeBrackets(),
        autocompletion({ icons: false }),
        keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, ...searchKeymap, indentWithTab]),
        language.of(support()),
        EditorView.contentAttributes.of({ 'aria-label': 'statements' }),
        EditorView.lineWrapping,
        EditorView.updateListener.of((update) => {
          if (update.docChanged) localStorage.setItem(STORED, update.state.doc.toString());
        }),
        look,
      ],
    }),
  });
  view.focus();
});
onBeforeUnmount(() => view?.destroy());

const names = () => catalog.objects.map((o) => o.name + ':' + o.columns.map((c) => c.name)).join();
watch(names, () => view?.dispatch({ effects: language.reconfigure(support()) }));

watch(
  () => sheet.problem,
  (problem) => {
    if (!view) return;
    if (!problem?.line || !problem.column) {
      view.dispatch(setDiagnostics(view.state, []));
      return;
    }
    const script = view.state.doc.toString();
    const statement = script.slice(problem.from);
    let from = Math.min(script.length, problem.from + offsetOf(statement, problem.line, problem.column));
    const word = /^([A-Za-z_]\w*|"[^"]*"|'[^']*'|.)/.exec(script.slice(from));
    let to = from + (word ? word[0].length : 0);
    if (from === to) {
      from = Math.max(0, from - 1);
      to = Math.min(script.length, from + 1);
    }
    const message = problem.hint ? `${problem.detail}; ${problem.hint}` : problem.detail;
    view.dispatch(setDiagnostics(view.state, [{ from, to, severity: 'error', message }]));
  },
);
</script>

<template>
  <div ref="host" class="editor" data-test="editor"></div>
</template>

<style scoped>
.editor { height: 100%; min-height: 0; overflow: hidden; }
</style>

import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { SQLDialect } from '@codemirror/lang-sql';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';

const KEYWORDS =
  'select from where group by having order limit offset distinct union all as and or not in is null ' +
  'join inner outer full cross natural using intersect except any ' +
  'over partition range preceding following unbounded qualify window within rollup cube grouping sets ' +
  'between like ilike case when then else end cast create replace stream table view materialized if ' +
  'exists drop cascade insert into values update set delete begin commit rollback follow explain analyze ' +
  'describe show streams tables views primary key event time lateness interval meta with filter asc desc ' +
  'similar nulls first last true false unknown on options extract floor ceil to for at';
const TYPES =
  'boolean smallint integer int bigint real double precision decimal numeric varchar char text varbinary ' +
  'date timestamp row array';
const BUILTIN =
  'count sum avg min max max_by min_by coalesce nullif date_trunc upper lower substring trim position ' +
  'round abs mod greatest least json_value json_query json_exists current_timestamp now char_length replace ' +
  'left right lpad rpad split_part concat row_number rank dense_rank lag lead first_value last_value string_agg ' +
  'array_agg stddev percentile_cont date_bin to_char regexp_replace regexp_match try_cast minute hour day second month ' +
  'year week json_build_object json_build_array to_json json_agg btrim overlay';

/** Our language for the editor. */
export const dialect = SQLDialect.define({
  keywords: KEYWORDS,
  types: TYPES,
  builtin: BUILTIN,
  doubleDollarQuotedStrings: false,
  identifierQuotes: '"',
});

const style = HighlightStyle.define([
  { tag: tags.keyword, color: 'var(--accent)', fontWeight: '500' },
  { tag: tags.typeName, color: 'var(--warn)' },
  { tag: tags.standard(tags.name), color: 'var(--warn)' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--came)' },
  { tag: tags.number, color: 'var(--went)' },
  { tag: [tags.lineComment, tags.blockComment], color: 'var(--faded)', fontStyle: 'italic' },
]);

/** Ink on paper. */
export const look = [
  syntaxHighlighting(style),
  EditorView.theme({
    '&': { height: '100%', backgroundColor: 'var(--sheet)', color: 'var(--ink)' },
    '.cm-scroller': { fontFamily: 'var(--mono)', fontSize: '13.5px', lineHeight: '1.6' },
    '.cm-content': { fontFamily: 'var(--mono)', caretColor: 'var(--ink)', padding: '10px 0' },
    '.cm-cursor': { borderLeftColor: 'var(--ink)' },
    '.cm-gutters': {
      backgroundColor: 'var(--sheet)',
      color: 'var(--faded)',
      border: 'none',
      borderRight: '3px double var(--red-rule)',
      paddingRight: '4px',
    },
    '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'color-mix(in srgb, var(--shade) 60%, transparent)' },
    '&.cm-focused': { outline: 'none' },
    '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': {
      backgroundColor: 'color-mix(in srgb, var(--accent) 22%, transparent) !important',
    },
    '.cm-tooltip': {
      backgroundColor: 'var(--sheet)', border: '1px solid var(--rule)', color: 'var(--ink)',
    },
    '.cm-tooltip-autocomplete ul li': { fontFamily: 'var(--mono)', fontSize: '12.5px' },
    '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--accent)', color: 'var(--sheet)' },
    '.cm-completionDetail': { color: 'inherit', opacity: '0.65', fontStyle: 'normal', marginLeft: '1em' },
    '.cm-lintRange-error': {
      backgroundImage: 'none',
      textDecoration: 'underline wavy var(--went) 1.5px',
      textUnderlineOffset: '4px',
    },
    '.cm-diagnostic': { borderLeft: '3px solid var(--went)', fontFamily: 'var(--sans)' },
  }),
];

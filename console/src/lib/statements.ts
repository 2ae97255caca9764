/** One statement of a script: its text and where it starts and ends, counted in characters. */
export interface Span {
  from: number;
  to: number;
  text: string;
}

/** Splits a script at semicolons that are not inside quotes or comments. */
export function split(script: string): Span[] {
  const spans: Span[] = [];
  let start = 0;
  let at = 0;
  const close = (end: number) => {
    const text = script.slice(start, end);
    const lead = leading(text);
    if (lead < text.length) {
      spans.push({ from: start + lead, to: start + text.trimEnd().length, text: text.slice(lead).trimEnd() });
    }
    start = end + 1;
  };
  while (at < script.length) {
    const c = script[at];
    if (c === "'" || c === '"') {
      const end = script.indexOf(c, at + 1);
      at = end < 0 ? script.length : end + 1;
    } else if (script.startsWith('--', at)) {
      const end = script.indexOf('\n', at);
      at = end < 0 ? script.length : end + 1;
    } else if (script.startsWith('/*', at)) {
      const end = script.indexOf('*/', at + 2);
      at = end < 0 ? script.length : end + 2;
    } else {
      if (c === ';') close(at);
      at++;
    }
  }
  close(script.length);
  return spans;
}

/** How much of the text is blank or comment before the statement proper. */
function leading(text: string): number {
  const match = /^(\s+|--[^\n]*(\n|$)|\/\*[\s\S]*?(\*\/|$))*/.exec(text);
  return match ? match[0].length : 0;
}

/** The statement the cursor is in or behind; with the cursor before all of them, the first. */
export function statementAt(script: string, cursor: number): Span | null {
  const spans = split(script);
  let found: Span | null = spans[0] ?? null;
  for (const span of spans) {
    if (span.from <= cursor) found = span;
  }
  return found;
}

/** The character a one-based line and column of a text stand for. */
export function offsetOf(text: string, line: number, column: number): number {
  let at = 0;
  for (let i = 1; i < line; i++) {
    const next = text.indexOf('\n', at);
    if (next < 0) return text.length;
    at = next + 1;
  }
  return Math.min(text.length, at + column - 1);
}

/** CREATE CONNECTION with those options that have a value; the password is named, not written. */
export function connectionStatement(name: string, type: string, options: Record<string, string>, secret: string | null): string {
  const list = Object.entries(options)
    .filter(([, value]) => value !== '')
    .map(([option, value]) => `${option} '${value.replaceAll("'", "''")}'`);
  if (secret) list.push(`password SECRET ${secret}`);
  return `CREATE CONNECTION ${name} TYPE ${type} OPTIONS (${list.join(', ')})`;
}

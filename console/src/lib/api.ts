/** The service's network interface, as far as the console uses it. */
export interface Column {
  name: string;
  type: string;
  nullable: boolean;
  fields?: Column[];
}

export interface CatalogObject {
  name: string;
  kind: 'stream' | 'table' | 'view' | 'materialized view';
  columns: Column[];
  key?: string[];
  rows?: number;
  events?: number;
  late?: number;
  watermark?: string | null;
  rejects?: number;
  state_bytes?: number;
  health?: string;
}

export interface Objects {
  epoch: number;
  rows_taken: number;
  objects: CatalogObject[];
}

export type Cell = string | number | boolean | null | object;

export interface RowsResult {
  kind: 'rows';
  columns: Column[];
  rows: Cell[][];
  epoch: number;
  elapsed_ms: number;
}

export interface DoneResult {
  kind: 'done';
  message: string;
  epoch: number;
  elapsed_ms: number;
}

export interface Change {
  weight: number;
  row: Cell[];
}

/** An RFC 9457 answer. */
export interface Problem {
  title?: string;
  detail: string;
  hint?: string;
  line?: number;
  column?: number;
}

export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

async function answer<T>(response: Response): Promise<T> {
  if (response.ok) return (await response.json()) as T;
  let problem: Problem;
  try {
    problem = (await response.json()) as Problem;
  } catch {
    problem = { detail: `the service answered ${response.status}` };
  }
  throw new ProblemError(problem);
}

async function call(path: string, init?: RequestInit): Promise<Response> {
  try {
    return await fetch(path, init);
  } catch {
    throw new ProblemError({ detail: 'the service does not answer', hint: 'start it with: drip up' });
  }
}

export async function objects(): Promise<Objects> {
  return answer<Objects>(await call('/api/v1/objects'));
}

export async function run(sql: string): Promise<(RowsResult | DoneResult)[]> {
  const response = await call('/api/v1/sql', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ sql }),
  });
  return (await answer<{ results: (RowsResult | DoneResult)[] }>(response)).results;
}

/** The problem a follow request is refused with; an event source itself does not tell. */
export async function explainRefusal(sql: string): Promise<Problem | null> {
  const abort = new AbortController();
  try {
    const response = await call('/api/v1/follow?sql=' + encodeURIComponent(sql), { signal: abort.signal });
    if (response.ok) return null;
    await answer(response);
    return null;
  } catch (e) {
    return e instanceof ProblemError ? e.problem : null;
  } finally {
    abort.abort();
  }
}

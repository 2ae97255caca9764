/** The service's network interface, as far as the console uses it. */
export interface Column {
  name: string;
  type: string;
  nullable: boolean;
  fields?: Column[];
}

export interface CatalogObject {
  name: string;
  kind: 'connection' | 'stream' | 'table' | 'view' | 'materialized view' | 'sink' | 'endpoint';
  type?: string;
  columns: Column[];
  key?: string[];
  rows?: number;
  events?: number;
  late?: number;
  watermark?: string | null;
  rejects?: number;
  state_bytes?: number;
  upkeep?: string;
  refreshed_at?: string | null;
  waiting_rows?: number;
  delivery?: Delivery;
  parameters?: Parameter[];
  description?: string | null;
  calls?: number;
  health?: string;
}

/** What an endpoint takes. */
export interface Parameter {
  name: string;
  type: string;
  required: boolean;
  default: string | null;
  comment?: string | null;
  check?: string | null;
}

/** The answer of a call of an endpoint. */
export interface EndpointAnswer {
  epoch: number;
  rows: Record<string, Cell>[];
  count: number;
  rows_read: number;
  elapsed_ms: number;
  /** Where the next page begins, if there is one. */
  next?: string;
}

/** How a sink does. */
export interface Delivery {
  connection: string;
  rows: string;
  upkeep: string;
  state: string;
  epoch: number;
  put: number;
  changed: number;
  removed: number;
  waiting_rows: number;
  waiting_since: string | null;
  error: string | null;
  error_since: string | null;
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
  status?: number;
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

let onUnknown: () => void = () => {};

/** What to do when the service no longer knows who asks. */
export function whenUnknown(action: () => void): void {
  onUnknown = action;
}

async function answer<T>(response: Response): Promise<T> {
  if (response.ok) return (await response.json()) as T;
  if (response.status === 401) onUnknown();
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

/** Where an endpoint is called with values. */
export function endpointPath(name: string, values: Record<string, string>): string {
  const query = new URLSearchParams(values).toString();
  return '/api/v1/endpoints/' + encodeURIComponent(name) + (query ? '?' + query : '');
}

export async function callEndpoint(name: string, values: Record<string, string>): Promise<EndpointAnswer> {
  const init = { headers: { Accept: 'application/json' }, cache: 'no-store' as const };
  return answer<EndpointAnswer>(await call(endpointPath(name, values), init));
}

export async function objects(): Promise<Objects> {
  return answer<Objects>(await call('/api/v1/objects'));
}

/** Who is at the console; without a role it has to be said first. */
export interface Who {
  role: string | null;
  owner?: boolean;
  open?: boolean;
  grants?: string[];
}

export async function whoAmI(): Promise<Who> {
  return answer<Who>(await call('/api/v1/sign-in'));
}

export async function signIn(token: string): Promise<Who> {
  return send('POST', '/api/v1/sign-in', { token });
}

export async function signOut(): Promise<void> {
  await answer(await call('/api/v1/sign-in', { method: 'DELETE' }));
}

export async function run(sql: string): Promise<(RowsResult | DoneResult)[]> {
  const response = await call('/api/v1/sql', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ sql }),
  });
  return (await answer<{ results: (RowsResult | DoneResult)[] }>(response)).results;
}

/** A topic, table or file behind a connection. */
export interface Source {
  name: string;
  kind: 'topic' | 'table' | 'file' | 'view';
  partitions: number;
  messages: number | null;
  bytes: number | null;
  per_second: number | null;
  key: string[];
  note: string | null;
}

/** A message as it lies at its source. */
export interface RawMessage {
  partition: number;
  position: number;
  time: string | null;
  key: string | null;
  headers: Record<string, string>;
  format: string;
  value: string | null;
  value_base64?: string;
}

/** What a sample looks like, and the statement that would keep it. */
export interface Proposal {
  sampled: number;
  unread: number;
  event_time: string | null;
  key: string[];
  columns: { name: string; type: string; nullable: boolean; example: string | null; missing: number; conflict: string | null }[];
  sql: string;
}

const connectionPath = (name: string) => '/api/v1/connections/' + encodeURIComponent(name);

async function send<T>(method: string, path: string, body: unknown): Promise<T> {
  const headers = { 'Content-Type': 'application/json' };
  return answer<T>(await call(path, { method, headers, body: JSON.stringify(body) }));
}

export async function sources(connection: string): Promise<Source[]> {
  return (await answer<{ sources: Source[] }>(await call(connectionPath(connection)))).sources;
}

export async function peek(connection: string, source: string, from: string, count: number): Promise<RawMessage[]> {
  const query = new URLSearchParams({ source, from, count: String(count) });
  const path = connectionPath(connection) + '/peek?' + query;
  return (await answer<{ messages: RawMessage[] }>(await call(path))).messages;
}

export async function propose(
  connection: string,
  wanted: { name: string; kind: 'stream' | 'table'; options: Record<string, string>; format: string | null; flat: boolean },
): Promise<Proposal> {
  return send('POST', connectionPath(connection) + '/propose', wanted);
}

export async function createTopic(connection: string, name: string, partitions: number, retain: string | null): Promise<void> {
  await send('POST', connectionPath(connection) + '/topics', { name, partitions, retain });
}

/** A secret is set and never read back. */
export async function setSecret(name: string, value: string): Promise<void> {
  await send('PUT', '/api/v1/secrets/' + encodeURIComponent(name), { value });
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

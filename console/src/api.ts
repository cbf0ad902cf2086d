// The API's types and calls, and the status that moves by itself.
import { createContext, useContext, useEffect, useState } from 'react';

export type State = 'true' | 'behind' | 'filling' | 'waiting' | 'blocked' | 'empty';

export interface Percentiles { changes: number; p50: number; p95: number; p99: number }
export interface Trouble { since: string; message: string; blocked: boolean }
export interface Fill {
  edition: string; state: string; rows: number; expected: number; bytes: number;
  perSecond: number; leftMs: number;
}
export interface IndexStatus {
  name: string; source: string; engine: string; edition: string; state: State; sentence: string;
  answering: boolean; rows: number | null; documents: number | null; countedAt?: string;
  failed: number; waiting: number; lagMs: number; lag: Percentiles;
  built: number; applied: number; spared: number; refusals: number; perSecond: number; minute: number[]; fill?: Fill; trouble?: Trouble;
}
export interface Journal { waiting: number; oldest?: string; bytes: number; growsPerSecond: number; limitBytes: number; warning?: string }
export interface SourceStatus {
  name: string; inFlight: number; oldestAt?: string; noticed: number; perSecond: number; minute: number[]; trouble?: Trouble; journal?: Journal;
}
export interface EngineStatus { name: string; atOnce: number; trouble?: Trouble }
export interface ProcessStatus { address: string; begunAt: string; here: boolean; sources: string[] }
export interface Moment { at: string; lag: Percentiles; oldestMs: number; waiting: number; applied: number; spared: number; refused: number; noticed: number; journal: number }
export interface Followed { at: string; op: string; table: string; key: string; sent: number; refused: number; lagMs: number | null; words: string }
export interface Status {
  at: string; state: State; sentence: string; definitionVersion: number; trouble?: Trouble;
  indexes: IndexStatus[]; sources: SourceStatus[]; engines: EngineStatus[]; processes: ProcessStatus[];
}
export interface Hit { key: string; score: number; document: Record<string, unknown> }
export interface Hits { total: number; hits: Hit[] }
export interface Origin { path: string; from: string; type: string }
export interface Preview { index: string; key: string; edition: string; built: unknown; stored: unknown; same: boolean; words: string; origins: Origin[] }
export interface Finding { at: { file: string; line: number; column: number }; message: string; suggestion?: string }
export interface Answer { name: string; kind: string; answers: boolean; words: string; missing?: string[] }
export interface PlanNode {
  rows?: string; path: string; parent: string; table: string; kind: 'root' | 'one' | 'many' | 'list';
  link?: string; where?: string; order?: string; limit?: number;
}
export interface PlanField {
  rows?: string; path: string; type: string; list?: boolean; from: string; search?: number; match?: string;
  filter?: boolean; sort?: boolean; facet?: boolean;
}
export interface IndexPlan {
  name: string; engine: string; change: 'new' | 'unchanged' | 'in place' | 'reindex' | 'removed'; guard?: string;
  differences: { path?: string; what: string; inPlace: boolean }[]; rows: number; bytes: number; operations: number;
  nodes: PlanNode[]; fields: PlanField[]; samples: { key: string; document: unknown }[]; notes: string[];
}
export interface Plan {
  findings: Finding[]; sources: Answer[]; engines: Answer[]; indexes: IndexPlan[];
  capture: { source: string; tables: string[]; advice: { kind: string; table: string; message: string; sql?: string }[] }[];
}
export interface Failed { key: string; kind: string; reason: string; cause: string; attempts: number; firstAt: string; lastAt: string }
export interface FailedGroup {
  index: string; cause: string; kind: string; pattern: string; field?: string; explanation: string; documents: number; firstAt: string; lastAt: string;
}
export interface FailedDocument {
  key: string; kind: string; reason: string; attempts: number; firstAt: string; lastAt: string;
  cause: { field?: string; explanation: string }; document: unknown; words: string;
}
export interface Applied { version: number; files: { name: string; text: string }[]; appliedAt: string; appliedBy: string }
export interface Caller { name: string; role: string }

export class Problem extends Error {
  constructor(public status: number, message: string) { super(message); }
}

export async function call<T>(path: string, init?: RequestInit): Promise<T> {
  let response: Response;
  try {
    response = await fetch(path, { ...init, headers: { 'Content-Type': 'application/json' } });
  } catch (e) {
    if (init?.signal?.aborted) throw e;
    throw new Problem(0, 'The service does not answer.');
  }
  if (response.status === 204) return undefined as T;
  const body = await response.json().catch(() => undefined);
  if (!response.ok) throw new Problem(response.status, body?.detail ?? response.statusText);
  return body as T;
}

export interface Live { status?: Status; lostSince?: Date }

// useEvents follows the event stream, and notes when it is lost.
export function useEvents(signedOut: () => void): Live {
  const [live, setLive] = useState<Live>({});
  useEffect(() => {
    const source = new EventSource('/api/events');
    source.addEventListener('status', (e) => setLive({ status: JSON.parse((e as MessageEvent).data) }));
    source.onerror = () => {
      setLive((l) => ({ ...l, lostSince: l.lostSince ?? new Date() }));
      // A stream that is refused is not tried again by the browser; find out why.
      call('/api/session').catch((p) => { if (p instanceof Problem && p.status === 401) signedOut(); });
    };
    return () => source.close();
  }, [signedOut]);
  return live;
}

export const LiveContext = createContext<Live>({});
export const useLive = () => useContext(LiveContext);

export const CallerContext = createContext<Caller>({ name: '', role: 'viewer' });
export const useMay = (role: 'operator' | 'admin') => {
  const roles = ['viewer', 'operator', 'admin'];
  return roles.indexOf(useContext(CallerContext).role) >= roles.indexOf(role);
};

export interface Loaded<T> { data?: T; error?: string; loading: boolean }

// useCall fetches when path changes; an empty path fetches nothing.
export function useCall<T>(path: string, again: unknown = 0): Loaded<T> {
  const [loaded, setLoaded] = useState<Loaded<T>>({ loading: path !== '' });
  useEffect(() => {
    if (path === '') { setLoaded({ loading: false }); return; }
    const abort = new AbortController();
    setLoaded((l) => ({ ...l, loading: true }));
    call<T>(path, { signal: abort.signal })
      .then((data) => setLoaded({ data, loading: false }))
      .catch((e) => { if (!abort.signal.aborted) setLoaded({ error: e.message, loading: false }); });
    return () => abort.abort();
  }, [path, again]);
  return loaded;
}

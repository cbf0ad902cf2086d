// The API's types and calls, and the status that moves by itself. The types are made of the
// OpenAPI file in the build.
import { QueryClient, useQuery } from '@tanstack/react-query';
import { createContext, useContext, useEffect, useState } from 'react';
import type { components } from './openapi';

type Schemas = components['schemas'];
export type Status = Schemas['Status'];
export type State = Status['state'];
export type IndexStatus = Schemas['IndexStatus'];
export type SourceStatus = Schemas['SourceStatus'];
export type HistoryPoint = Schemas['HistoryPoint'];
export type RecentChange = Schemas['RecentChange'];
export type Receipt = Schemas['Receipt'];
export type HeldRecord = Schemas['HeldRecord'];
export type Document = Record<string, unknown>;
export type Hits = Schemas['Hits'];
export type Preview = Schemas['Preview'];
export type Finding = Schemas['Finding'];
export type Plan = Schemas['Plan'];
export type IndexPlan = Schemas['IndexPlan'];
export type PlanNode = Schemas['PlanNode'];
export type PlanField = Schemas['PlanField'];
export type FailedGroup = Schemas['FailedGroup'];
export type FailedDocument = Schemas['FailedDocument'];
export type FailedDetail = Schemas['FailedDetail'];
export type FailedSelection = Schemas['FailedSelection'];
export type Reindexed = Schemas['Reindexed'];
export type Run = Schemas['Run'];
export type Estimate = Schemas['Estimate'];
export type FillStatus = Schemas['FillStatus'];
export type Comparison = Schemas['Comparison'];
export type Pace = Schemas['Pace'];
export type Drift = Schemas['Drift'];
export type DriftOrder = Schemas['DriftOrder'];
export type DriftAction = Schemas['DriftAction'];
export type Traced = Schemas['Traced'];
export type DocumentCount = Schemas['DocumentCount'];
export type DefinitionVersion = Schemas['DefinitionVersion'];
export type Files = Schemas['Files'];
export type Session = Schemas['Session'];
export type Token = Schemas['Token'];
export type CreatedToken = Schemas['CreatedToken'];
export type OpenSession = Schemas['OpenSession'];

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

export const post = <T>(path: string, body: unknown) => call<T>(path, { method: 'POST', body: JSON.stringify(body) });

// A failure is shown, not hidden behind silent tries: what moves asks again by itself.
export const queryClient = new QueryClient({ defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } });

// useGet fetches a path, and again when one of the values changes that it depends on; an
// empty path fetches nothing. every is the interval between fetches, in milliseconds.
export function useGet<T>(path: string, dependsOn: unknown = 0, every: number | false = false) {
  return useQuery<T, Problem>({
    queryKey: [path, dependsOn], enabled: path !== '', refetchInterval: every,
    queryFn: ({ signal }) => call<T>(path, { signal }),
    // The last data stays while it is fetched again; another path starts empty.
    placeholderData: (before, query) => (query?.queryKey[0] === path ? before : undefined),
  });
}

export interface Live { status?: Status; lostSince?: Date }

// useEvents follows the event stream while the page is seen, and notes when it is lost. A page in a tab behind others, or in
// the browser's cache after it was left, gives its connection back: a browser opens six to a host, and pages would wait.
export function useEvents(signedOut: () => void): Live {
  const [live, setLive] = useState<Live>({});
  useEffect(() => {
    let source: EventSource | undefined;
    const close = () => { source?.close(); source = undefined; };
    const follow = () => {
      if (document.hidden) return close();
      if (source) return;
      source = new EventSource('/api/events');
      source.addEventListener('status', (e) => setLive({ status: JSON.parse((e as MessageEvent).data) }));
      source.onerror = () => {
        setLive((l) => ({ ...l, lostSince: l.lostSince ?? new Date() }));
        // A stream that is refused is not tried again by the browser; find out why.
        call('/api/session').catch((p) => { if (p instanceof Problem && p.status === 401) signedOut(); });
      };
    };
    follow();
    document.addEventListener('visibilitychange', follow);
    window.addEventListener('pageshow', follow);
    window.addEventListener('pagehide', close);
    return () => {
      document.removeEventListener('visibilitychange', follow);
      window.removeEventListener('pageshow', follow);
      window.removeEventListener('pagehide', close);
      close();
    };
  }, [signedOut]);
  return live;
}

export const LiveContext = createContext<Live>({});
export const useLive = () => useContext(LiveContext);

export const SessionContext = createContext<Session>({ name: '', role: 'viewer' });
export const useMay = (role: 'operator' | 'admin') => {
  const roles = ['viewer', 'operator', 'admin'];
  return roles.indexOf(useContext(SessionContext).role) >= roles.indexOf(role);
};

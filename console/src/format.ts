// How numbers, times and durations are written.
export const count = (n: number | null | undefined) => (n == null ? '–' : n.toLocaleString('en-GB'));

export function duration(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  const minutes = Math.floor(ms / 60_000);
  if (minutes < 60) return `${minutes} min ${Math.floor((ms % 60_000) / 1000)} s`;
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

export const rate = (perSecond: number) => (perSecond >= 100 ? count(Math.round(perSecond)) : perSecond.toFixed(1));

export const time = (iso: string) => new Date(iso).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium' });

export function bytes(n: number): string {
  if (n < 10_000) return `${count(n)} bytes`;
  if (n < 10_000_000) return `${count(Math.round(n / 1000))} kB`;
  return `${count(Math.round(n / 1_000_000))} MB`;
}

// texts are those of a document's own fields, headline the first of them.
export const texts = (doc: Record<string, unknown>) =>
  Object.entries(doc).filter(([k, v]) => !k.startsWith('pingo_') && typeof v === 'string' && v !== '').map(([, v]) => v as string);
export const headline = (doc: Record<string, unknown>) => texts(doc)[0] ?? '(no text)';

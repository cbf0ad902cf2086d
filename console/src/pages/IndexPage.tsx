import { Autocomplete, Box, CircularProgress, FormControlLabel, Link, Paper, Stack, Switch, Tab, Tabs, TextField, Typography } from '@mui/material';
import { useEffect, useRef, useState } from 'react';
import { Link as To, useParams, useSearchParams } from 'react-router-dom';
import { useGet, useLive, type Document as Doc, type Hits, type IndexStatus, type Plan, type Preview } from '../api';
import { count, headline, texts } from '../format';
import { FailedDocuments } from '../parts/failed';
import { Drift } from '../parts/drift';
import { History } from '../parts/history';
import { Reindex, WideChange } from '../parts/reindex';
import { Record } from '../parts/record';
import { Code, Empty, Notice, StateMark, StateWord } from '../parts/parts';

export function IndexPage() {
  const { name = '', tab = '' } = useParams();
  const { status } = useLive();
  const ix = status?.indexes.find((i) => i.name === name);
  if (!status) return <Box sx={{ display: 'grid', placeItems: 'center', py: 12 }}><CircularProgress aria-label="Loading" /></Box>;
  if (!ix) return <Empty title={`There is no index ${name}`}><Link component={To} to="/">Back to the overview</Link></Empty>;
  return (
    <>
      <Typography variant="body2"><Link component={To} to="/" color="inherit">Overview</Link></Typography>
      <Stack direction="row" sx={{ gap: 1.5, alignItems: 'center', mt: 0.5 }}>
        <StateMark state={ix.state} size={28} />
        <Typography variant="h1">{name}</Typography>
        <StateWord state={ix.state} />
      </Stack>
      <Typography variant="body2" sx={{ mt: 1, mb: 3, maxWidth: '80ch', overflowWrap: 'anywhere' }}>
        {ix.sentence} {count(ix.rows)} rows, {count(ix.documents)} documents in {ix.edition}{ix.drift && `, ${ix.drift.sentence}`}.
        {ix.built > 0 && ` Since the process started, ${count(ix.built)} were built: ${count(ix.delivered)} delivered, ${count(ix.unchanged)} not sent because they had not changed, ${count(ix.refused)} refused.`}
      </Typography>
      <Tabs value={tab in tabs ? tab : ''} aria-label={`About ${name}`} sx={{ mb: 2.5, borderBottom: 1, borderColor: 'divider' }}>
        {Object.entries(tabs).map(([at, label]) => <Tab key={at} value={at} label={label} component={To} to={`/indexes/${name}${at && `/${at}`}`} />)}
      </Tabs>
      {tab === 'drift' ? <Drift ix={ix} /> : tab === 'record' ? <Record ix={ix} /> : <Look ix={ix} />}
    </>
  );
}

const tabs: { [at: string]: string } = { '': 'Search', record: 'Record', drift: 'Drift' };

// useAsked keeps the search in the address, so that a link shows the same results.
function useAsked() {
  const [params, setParams] = useSearchParams();
  const change = (part: 'q' | 'filter' | 'any' | 'key', values: string[]) => setParams((now) => {
    const next = new URLSearchParams(now);
    next.delete(part);
    values.filter(Boolean).forEach((v) => next.append(part, v));
    return next;
  }, { replace: part !== 'key' });
  return { query: params.get('q') ?? '', filters: params.getAll('filter'), any: params.get('any') === 'true', key: params.get('key') ?? '', change };
}

function Look({ ix }: { ix: IndexStatus }) {
  const { key, change } = useAsked();
  const setKey = (k: string) => change('key', [k]);
  const { name } = ix;
  return (
    <>
      <WideChange ix={ix} />
      {ix.fill && <Reindex ix={ix} />}
      {ix.failed > 0 && <FailedDocuments name={name} failed={ix.failed} show={setKey} />}
      <Box sx={{ display: 'grid', gap: 2.5, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 1fr) minmax(0, 1fr)' }, alignItems: 'start' }}>
        <SearchBox name={name} live={ix.live} chosen={key} choose={setKey} />
        <Stack sx={{ gap: 2.5 }}>
          {/* One more that was delivered means that the document may have changed. */}
          <Document name={name} docKey={key} delivered={ix.delivered} />
          <History name={name} />
          {!ix.fill && <Reindex ix={ix} />}
        </Stack>
      </Box>
    </>
  );
}

function SearchBox({ name, live, chosen, choose }: { name: string; live: boolean; chosen: string; choose: (key: string) => void }) {
  const { query, filters, any, change } = useAsked();
  const [text, setText] = useState(query);
  const sent = useRef(query);
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (text === sent.current) return;
    const timer = setTimeout(() => { sent.current = text; change('q', [text]); }, 150);
    return () => clearTimeout(timer);
  }); // change is another function each time
  useEffect(() => {
    if (query !== sent.current) { sent.current = query; setText(query); } // a link led here
  }, [query]);
  useEffect(() => {
    const focus = (e: KeyboardEvent) => {
      if (e.key === '/' && document.activeElement !== input.current) { e.preventDefault(); input.current?.focus(); }
    };
    window.addEventListener('keydown', focus);
    return () => window.removeEventListener('keydown', focus);
  }, []);
  const { data: plan } = useGet<Plan>('/api/definition/plan');
  const fields = plan?.indexes.find((i) => i.name === name)?.fields.filter((f) => f.filter || f.facet) ?? [];
  const asked = new URLSearchParams([['limit', '12'], ['q', query], ...filters.map((f) => ['filter', f]), ...(any ? [['any', 'true']] : [])]);
  const { data, error } = useGet<Hits>(live ? `/api/indexes/${name}/search?${asked}` : '');
  return (
    <Paper component="section" aria-label="Search" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <TextField inputRef={input} fullWidth size="small" label={`Search ${name} as your users would`} value={text} onChange={(e) => setText(e.target.value)}
        helperText={data ? `${count(data.total)} ${data.total === 1 ? 'document' : 'documents'}` : 'Press / to search'} disabled={!live} />
      {fields.length > 0 && (
        <Autocomplete multiple freeSolo size="small" sx={{ mt: 1.5 }} disabled={!live} value={filters} onChange={(_, v) => change('filter', v as string[])}
          options={fields.map((f) => example(f.path, f.type))} getOptionDisabled={(o) => filters.includes(o)} filterSelectedOptions
          renderInput={(p) => <TextField {...p} label="Filters" helperText="FIELD=VALUE, FIELD=ONE|ANOTHER, FIELD=FROM..TO, FIELD>=VALUE" />} />
      )}
      <FormControlLabel sx={{ mt: 0.5, ml: 0, gap: 1 }} control={<Switch size="small" checked={any} onChange={(_, on) => change('any', [on ? 'true' : ''])} disabled={!live} />}
        label={<Typography variant="body2">Match any word</Typography>} />
      {error && <Notice color="error">{error.message}</Notice>}
      {!live && <Typography variant="body2">You can search when the first edition is live.</Typography>}
      <Stack component="ul" sx={{ listStyle: 'none', p: 0, m: 0, mt: 1, gap: 0.25 }}>
        {data?.hits.map((h) => (
          <li key={h.key}>
            <Box component="button" onClick={() => choose(h.key)} aria-pressed={chosen === h.key} sx={{
              width: '100%', textAlign: 'left', font: 'inherit', color: 'inherit', border: 0, borderRadius: 1.5, p: 1, cursor: 'pointer',
              bgcolor: chosen === h.key ? 'action.selected' : 'transparent', '&:hover': { bgcolor: 'action.hover' },
            }}>
              <Typography sx={{ fontWeight: 600, fontSize: '0.92rem' }}>{headline(h.document as Doc)} <Box component="span" sx={{ color: 'text.secondary', fontWeight: 400 }}>{h.key}</Box></Typography>
              <Typography variant="body2" noWrap sx={{ color: 'text.secondary' }}>{texts(h.document as Doc).slice(1).join(' · ')}</Typography>
            </Box>
          </li>
        ))}
      </Stack>
      {data && data.total === 0 && (
        <Typography variant="body2" sx={{ mt: 1 }}>
          {filters.length > 0 ? 'No document has these words and passes all filters. Take a filter out to find more.'
            : any ? 'No document has any of these words.' : 'No document has all these words. Fewer words, or their beginnings, find more.'}
        </Typography>
      )}
    </Paper>
  );
}

// example is what a filter on a field may look like, for its type.
function example(path: string, type: string) {
  switch (type) {
    case 'integer': case 'decimal': return `${path}>=1`;
    case 'date': case 'timestamp': return `${path}>=${new Date().getFullYear()}`;
    case 'boolean': return `${path}=true`;
    case 'geo': return `${path}=near(46.5,8.5,20km)`;
    default: return `${path}=`;
  }
}

function Document({ name, docKey, delivered }: { name: string; docKey: string; delivered: number }) {
  const { data, error } = useGet<Preview>(docKey && `/api/indexes/${name}/preview/${encodeURIComponent(docKey)}`, delivered);
  const json = (v: unknown) => JSON.stringify(v, null, 2);
  return (
    <Paper component="section" aria-label="Document" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Typography variant="h2" sx={{ mb: 1 }}>{docKey ? `Document ${docKey}` : 'Document'}</Typography>
      {!docKey && <Typography variant="body2" sx={{ color: 'text.secondary' }}>Choose a document to compare the one in the engine with its row.</Typography>}
      {error && <Notice color="error">{error.message}</Notice>}
      {data && (
        <Stack sx={{ gap: 1.5 }}>
          <Stack direction="row" sx={{ gap: 1 }}>
            <StateMark state={data.same ? 'in sync' : 'catching up'} />
            <Typography variant="body2">{data.verdict} <Link component={To} to={`/indexes/${name}/record?key=${encodeURIComponent(docKey)}`}>Trace it</Link></Typography>
          </Stack>
          <Code>{json(data.built)}</Code>
          {!data.same && <><Typography variant="body2">In the engine:</Typography><Code>{json(data.stored)}</Code></>}
          <Box component="details" sx={{ '& summary': { cursor: 'pointer', fontSize: '0.875rem', fontWeight: 600 } }}>
            <summary>Where each value comes from</summary>
            <Box component="table" sx={{ mt: 1, fontSize: '0.8rem', borderSpacing: 0, '& td': { p: 0.5, pr: 2, verticalAlign: 'top', overflowWrap: 'anywhere' } }}>
              <tbody>{data.origins.map((o) => <tr key={o.path}><td><b>{o.path}</b></td><td>{o.from}</td></tr>)}</tbody>
            </Box>
          </Box>
        </Stack>
      )}
    </Paper>
  );
}

import { Box, Button, CircularProgress, Link, MenuItem, Paper, Stack, TextField, Typography } from '@mui/material';
import { Link as To, useParams, useSearchParams } from 'react-router-dom';
import { useGet, useLive, type HeldRecord, type Receipt, type SourceStatus, type Status } from '../api';
import { bytes, count, rate, time } from '../format';
import { Changes } from '../parts/changes';
import { Code, Empty, Figure, Notice, Spark, StateMark } from '../parts/parts';
import { ago, noticed } from './Overview';

export function SourcePage() {
  const name = useParams().name!;
  const { status } = useLive();
  if (!status) return <Box sx={{ display: 'grid', placeItems: 'center', py: 12 }}><CircularProgress aria-label="Loading" /></Box>;
  const source = status.sources.find((s) => s.name === name);
  if (!source) return <Empty title={`There is no source ${name}`}><Link component={To} to="/">Back to the overview</Link></Empty>;
  return (
    <>
      <Typography variant="body2"><Link component={To} to="/" color="inherit">Overview</Link></Typography>
      <Stack direction="row" sx={{ gap: 1.5, alignItems: 'center', mt: 0.5, mb: 0.5 }}>
        <StateMark state={source.trouble ? (source.trouble.blocked ? 'blocked' : 'waiting') : 'in sync'} size={28} />
        <Typography variant="h1">{name}</Typography>
      </Stack>
      <Typography variant="body2" sx={{ color: 'text.secondary', mb: 2 }}>{noticed(source)}.</Typography>
      {source.trouble && <Notice color={source.trouble.blocked ? 'error' : 'warning'}>{source.trouble.message}</Notice>}
      {source.journal?.warning && <Notice color="warning">{source.journal.warning}</Notice>}
      <Stack sx={{ gap: 2 }}>
        <Figures source={source} status={status} />
        {source.receives && <Receipts source={source} />}
        <Changes source={name} />
        <Unseen source={source} />
      </Stack>
    </>
  );
}

function Figures({ source, status }: { source: SourceStatus; status: Status }) {
  const j = source.journal;
  const fed = status.indexes.filter((i) => i.sources.includes(source.name));
  const waits = source.capture === 'outbox' ? 'in the outbox' : 'in the journal';
  return (
    <Paper component="section" aria-label="Figures" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'repeat(2, 1fr)', md: 'repeat(4, auto) minmax(180px, 1fr)' }, alignItems: 'start' }}>
        <Figure label="changes noticed" value={count(source.noticed)} note="since the process started" />
        <Figure label="in flight" value={count(source.inFlight)} note={source.oldestAt ? `the oldest ${ago(source.oldestAt)}` : 'nothing waits'} />
        <Figure label={waits} value={j ? count(j.changes) : '–'} note={j && (j.oldest ? `the oldest ${ago(j.oldest)}` : 'all processed')} />
        {source.capture !== 'outbox' && source.capture !== 'poll' && <Figure label="size" value={j ? bytes(j.bytes) : '–'} note={j && `limit ${bytes(j.limitBytes)}`} />}
        <Box sx={{ gridColumn: { xs: '1 / -1', md: 'auto' } }}>
          <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.78rem' }}>{rate(source.perSecond)} changes per second, last minute</Typography>
          <Spark data={source.minute} label={`Changes a second over the last minute, ${rate(source.perSecond)} now`} />
        </Box>
      </Box>
      <Typography variant="body2" sx={{ mt: 1, color: 'text.secondary' }}>
        {fed.length ? 'Its rows are in ' : 'No index has rows from it.'}
        {fed.map((i, n) => <span key={i.name}>{n > 0 && ', '}<Link component={To} to={`/indexes/${i.name}`} color="inherit">{i.name}</Link></span>)}
      </Typography>
    </Paper>
  );
}

const page = 12;
const outcomes = ['accepted', 'duplicate', 'old', 'unreadable', 'bad-signature', 'out-of-time', 'too-large', 'too-many'];

// Receipts lists the outcomes of events, the newest first.
function Receipts({ source }: { source: SourceStatus }) {
  const [params, setParams] = useSearchParams();
  const outcome = params.get('outcome') ?? '';
  const below = params.get('below') ?? '';
  const query = new URLSearchParams({ limit: String(page), ...(outcome && { outcome }), ...(below && { below }) });
  const { data, error } = useGet<Receipt[]>(`/api/sources/${source.name}/receipts?${query}`, 0, below ? false : 2000);
  const { data: held } = useGet<HeldRecord[]>(`/api/sources/${source.name}/records`, 0, 5000);
  const go = (next: Record<string, string>) => setParams(Object.fromEntries(Object.entries(next).filter(([, v]) => v)));
  const hooked = source.capture === 'webhook';
  return (
    <Paper component="section" aria-label="Receipts" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Stack direction="row" sx={{ justifyContent: 'space-between', alignItems: 'center', flexWrap: 'wrap', gap: 1.5, mb: 1 }}>
        <Typography variant="h2">{hooked ? 'Events' : 'Events of the outbox'}</Typography>
        <TextField select size="small" label="Outcome" value={outcome} onChange={(e) => go({ outcome: e.target.value })} sx={{ minWidth: 160 }}
          slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
          <MenuItem value="">all</MenuItem>
          {outcomes.map((o) => <MenuItem key={o} value={o}>{o}</MenuItem>)}
        </TextField>
      </Stack>
      {held?.map((h) => (
        <Typography key={h.record} variant="body2" sx={{ color: 'text.secondary' }}>
          {h.record}: {count(h.rows)} records{h.newest && `, the newest ${ago(h.newest)}`}{h.deleted > 0 && `; ${count(h.deleted)} deleted ones are remembered`}
        </Typography>
      ))}
      {error && <Typography variant="body2" color="error">{error.message}</Typography>}
      {data?.length === 0 && (outcome || below
        ? <Typography variant="body2" sx={{ mt: 1 }}>There is none with this outcome.</Typography>
        : hooked ? <FirstEvent name={source.name} record={held?.[0]?.record ?? 'RECORD'} />
          : <Typography variant="body2" sx={{ mt: 1 }}>{source.capture === 'outbox' && held?.length === 0 ? 'Every row of the outbox could be read. One that cannot shows here, and holds up no other.' : 'Nothing has come through the outbox yet.'}</Typography>)}
      {data && data.length > 0 && (
        <>
          <Box sx={{ overflowX: 'auto', mt: 1 }} tabIndex={0}>
            <Box component="table" sx={{ width: '100%', borderSpacing: 0, fontSize: '0.82rem', fontVariantNumeric: 'tabular-nums', '& th': { textAlign: 'left', color: 'text.secondary', fontWeight: 400, pb: 0.5 }, '& td, & th': { pr: 2, py: 0.4, whiteSpace: 'nowrap' }, '& td': { borderTop: 1, borderColor: 'divider' } }}>
              <thead><tr><th>at</th><th>outcome</th><th>record</th><th>key</th><th>what</th><th>why</th></tr></thead>
              <tbody>
                {data.map((r) => (
                  <tr key={r.number}>
                    <td>{time(r.at)}</td>
                    <Box component="td" sx={{ color: ['accepted', 'duplicate', 'old'].includes(r.outcome) ? undefined : 'error.main' }}>{r.outcome}</Box>
                    <td>{r.record}</td>
                    <td>{r.events && r.events > 1 ? `${count(r.events)} events` : r.key}</td>
                    <td>{r.op}</td>
                    <Box component="td" sx={{ whiteSpace: 'normal !important', minWidth: 220 }}>{r.reason}</Box>
                  </tr>
                ))}
              </tbody>
            </Box>
          </Box>
          <Stack direction="row" sx={{ gap: 1, mt: 1 }}>
            {below && <Button size="small" onClick={() => go({ outcome })}>Newest</Button>}
            {data.length === page && <Button size="small" onClick={() => go({ outcome, below: String(data[data.length - 1].number) })}>Older</Button>}
          </Stack>
        </>
      )}
    </Paper>
  );
}

function FirstEvent({ name, record }: { name: string; record: string }) {
  return (
    <Box sx={{ mt: 1 }}>
      <Typography variant="body2" sx={{ mb: 1 }}>Nothing was sent yet. Senders send to {window.location.origin}/hooks/{name}. To send an event yourself, or load a file:</Typography>
      <Code>{`$ echo '{"name": "first"}' | pingo hooks send ${name} - --record ${record} --key 1
$ pingo load ${name} ${record} all.ndjson`}</Code>
    </Box>
  );
}

function Unseen({ source }: { source: SourceStatus }) {
  if (source.cannotSee.length === 0) return null;
  return (
    <Paper component="section" aria-label="What is not noticed" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Typography variant="h2" sx={{ mb: 1 }}>What this way does not notice</Typography>
      <Stack component="ul" sx={{ m: 0, pl: 2.5, gap: 0.5 }}>
        {source.cannotSee.map((s) => <Typography component="li" variant="body2" key={s}>{s}</Typography>)}
      </Stack>
    </Paper>
  );
}

import { Box, CircularProgress, LinearProgress, Link, Paper, Stack, Typography } from '@mui/material';
import { Link as To } from 'react-router-dom';
import { useLive, type IndexStatus, type SourceStatus, type Status } from '../api';
import { bytes, count, duration, rate } from '../format';
import { FirstSteps } from '../parts/steps';
import { Figure, Notice, Spark, StateMark, StateWord } from '../parts/parts';

export function Overview() {
  const { status, lostSince } = useLive();
  if (!status) return <Box sx={{ display: 'grid', placeItems: 'center', py: 12 }}><CircularProgress aria-label="Loading" /></Box>;
  return (
    <>
      {lostSince && <Notice color="warning">The service has not answered since {lostSince.toLocaleTimeString('en-GB')}. This page shows the last known state, and updates when the service answers.</Notice>}
      <Verdict status={status} />
      {status.state === 'empty' ? <FirstSteps /> : (
        <>
          <Stack sx={{ gap: 2, mt: 3 }}>
            {status.indexes.map((ix) => <IndexCard key={ix.name} ix={ix} />)}
          </Stack>
          <Typography variant="h2" sx={{ mt: 4, mb: 1.5 }}>Sources</Typography>
          <Stack sx={{ gap: 2 }}>
            {status.sources.map((s) => <SourceCard key={s.name} source={s} fedBy={status.processes.find((p) => p.sources.includes(s.name))?.address} />)}
          </Stack>
          <Servers status={status} />
        </>
      )}
    </>
  );
}

function Verdict({ status }: { status: Status }) {
  const changes = status.sources.reduce((n, s) => n + s.perSecond, 0);
  return (
    <Stack direction="row" sx={{ gap: 2, alignItems: 'flex-start' }}>
      <StateMark state={status.state} failed={status.indexes.some((i) => i.failed > 0)} size={34} />
      <Box>
        <Typography variant="h1" aria-live="polite">{status.sentence}</Typography>
        {status.definitionVersion > 0 && (
          <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5 }}>
            {rate(changes)} changes a second in the sources · <Link component={To} to="/definition" color="inherit">definition version {status.definitionVersion}</Link>
          </Typography>
        )}
      </Box>
    </Stack>
  );
}

function IndexCard({ ix }: { ix: IndexStatus }) {
  return (
    <Paper component="section" aria-label={`Index ${ix.name}`} sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Stack direction="row" sx={{ gap: 1.25, alignItems: 'center', flexWrap: 'wrap' }}>
        <StateMark state={ix.state} failed={ix.failed > 0} />
        <Link component={To} to={`/indexes/${ix.name}`} variant="h2" underline="hover" color="inherit">{ix.name}</Link>
        <StateWord state={ix.state} />
        <Typography variant="body2" sx={{ color: 'text.secondary', ml: 'auto' }}>{ix.sources.join(', ')} → {ix.engine} · {ix.edition}</Typography>
      </Stack>
      <Typography variant="body2" sx={{ mt: 1, mb: 2, maxWidth: '75ch', overflowWrap: 'anywhere' }}>
        {ix.sentence}
        {ix.drift && <Box component="span" sx={{ display: 'block', color: 'text.secondary', '&::first-letter': { textTransform: 'uppercase' } }}><Link component={To} color="inherit" to={`/indexes/${ix.name}/drift`}>{ix.drift.sentence}</Link></Box>}
      </Typography>
      {ix.fill && ix.fill.expected > 0 && <FillBar ix={ix} />}
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'repeat(2, 1fr)', md: 'repeat(5, auto) minmax(180px, 1fr)' }, alignItems: 'start' }}>
        <Figure label="rows in the source" value={count(ix.rows)} note={ix.countedAt && `counted ${ago(ix.countedAt)}`} />
        <Figure label="documents" value={count(ix.documents)} note={ix.documentsCountedAt && `counted ${ago(ix.documentsCountedAt)}${ix.recounting ? '; being counted again' : ''}`} />
        <Figure label="lag now" value={duration(ix.lagMs)} note={ix.lagMs === 0 ? 'nothing waits' : `${count(ix.waiting)} documents waiting`} />
        <Figure label="recent lag" value={ix.lag.changes ? duration(ix.lag.p50) : '–'} note={ix.lag.changes ? `99% under ${duration(ix.lag.p99)}` : 'no changes yet'} />
        <Figure label="failed documents" value={count(ix.failed)} color={ix.failed ? 'error.main' : undefined}
          note={ix.failed > 0 && <Link component={To} to={`/indexes/${ix.name}#failed`}>see why</Link>} />
        <Box sx={{ gridColumn: { xs: '1 / -1', md: 'auto' } }}>
          <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.78rem' }}>{rate(ix.perSecond)} documents per second, last minute</Typography>
          <Spark data={ix.minute} label={`Documents a second over the last minute, ${rate(ix.perSecond)} now`} />
        </Box>
      </Box>
    </Paper>
  );
}

function FillBar({ ix }: { ix: IndexStatus }) {
  const f = ix.fill!;
  const percent = Math.min(100, (100 * f.rows) / f.expected);
  return (
    <Box sx={{ mb: 2 }}>
      <LinearProgress variant="determinate" value={percent} aria-label={`Filling ${f.edition}`} sx={{ height: 8, borderRadius: 4 }} />
      <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5 }}>
        {percent.toFixed(0)}% · {count(Math.round(f.perSecond))} rows a second{f.leftMs > 0 && ` · ${duration(f.leftMs)} left`}
      </Typography>
    </Box>
  );
}

// Servers says how engines answer, and which processes share the work.
function Servers({ status }: { status: Status }) {
  return (
    <Box component="section" aria-label="Engines and processes" sx={{ mt: 3, display: 'grid', gap: 0.5 }}>
      {status.engines.map((e) => (
        <Typography key={e.name} variant="body2" sx={{ color: e.trouble ? 'warning.main' : 'text.secondary', overflowWrap: 'anywhere' }}>
          Engine {e.name} {e.trouble ? `does not answer: ${e.trouble.message}` : `gets up to ${e.requestsAllowed} concurrent requests`}
        </Typography>
      ))}
      {status.processes.map((p) => (
        <Typography key={p.address} variant="body2" sx={{ color: 'text.secondary' }}>
          Process {p.address}{p.current && ' (this one)'} feeds {p.sources.length ? p.sources.join(', ') : 'no source; it takes over when another process dies'}
        </Typography>
      ))}
    </Box>
  );
}

const kinds: Record<string, string> = { postgres: 'PostgreSQL', mariadb: 'MariaDB' };

// noticed says how changes of a source are noticed.
export function noticed(source: SourceStatus) {
  switch (source.capture) {
    case 'triggers': return `${kinds[source.kind] ?? source.kind}: triggers note its changes in a journal`;
    case 'outbox': return `${kinds[source.kind] ?? source.kind}: its application writes changes into an outbox`;
    case 'webhook': return 'Senders send its records as events';
    case 'poll': return `${kinds[source.kind] ?? source.kind}: Pingo polls its tables for newer rows`;
    case 'pull': return 'The entries of a feed are pulled now and then';
    default: return source.kind;
  }
}

export function SourceCard({ source, fedBy }: { source: SourceStatus; fedBy?: string }) {
  const j = source.journal;
  return (
    <Paper component="section" aria-label={`Source ${source.name}`} sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'repeat(2, 1fr)', md: '1.2fr repeat(4, auto) minmax(160px, 1.2fr)' }, alignItems: 'start' }}>
        <Box sx={{ gridColumn: { xs: '1 / -1', md: 'auto' } }}>
          <Link component={To} to={`/sources/${source.name}`} underline="hover" color="inherit" sx={{ fontWeight: 600 }}>{source.name}</Link>
          <Typography variant="body2" sx={{ color: source.trouble || j?.warning ? 'warning.main' : 'text.secondary', overflowWrap: 'anywhere' }}>
            {source.trouble ? source.trouble.message : j?.warning ?? `${noticed(source)}${fedBy ? `, read by ${fedBy}` : ''}.`}
          </Typography>
        </Box>
        <Figure label="changes noticed" value={count(source.noticed)} note="since the process started" />
        <Figure label="in flight" value={count(source.inFlight)} />
        <Figure label={source.capture === 'outbox' ? 'in the outbox' : 'in the journal'} value={j ? count(j.changes) : '–'} note={j && (j.oldest ? `the oldest ${ago(j.oldest)}` : 'all processed')} />
        {source.capture === 'outbox' || source.capture === 'poll' ? <span /> : <Figure label="journal size" value={j ? bytes(j.bytes) : '–'} note={j && `limit ${bytes(j.limitBytes)}`} />}
        <Box sx={{ gridColumn: { xs: '1 / -1', md: 'auto' } }}>
          <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.78rem' }}>{rate(source.perSecond)} changes per second, last minute</Typography>
          <Spark data={source.minute} label={`Changes a second over the last minute, ${rate(source.perSecond)} now`} />
        </Box>
      </Box>
    </Paper>
  );
}

export function ago(iso: string): string {
  const ms = Date.now() - new Date(iso).getTime();
  return ms < 2000 ? 'just now' : `${duration(ms)} ago`;
}

// How much of an index was found to be what the database makes of it, when, what differs, and why.
import { Box, Button, Dialog, DialogActions, DialogContent, DialogContentText, DialogTitle, LinearProgress, Link, Paper, Stack, Table, TableBody, TableCell, TableHead, TableRow, Tooltip, Typography } from '@mui/material';
import { useState } from 'react';
import { Link as To, useSearchParams } from 'react-router-dom';
import { post, useGet, useMay, type Drift as All, type DriftAction, type DriftOrder, type IndexStatus } from '../api';
import { count, duration } from '../format';
import { ago } from '../pages/Overview';
import { Figure, Notice, Spark, StateMark } from './parts';

export function Drift({ ix }: { ix: IndexStatus }) {
  const may = useMay('operator');
  const [params, setParams] = useSearchParams();
  const cause = params.get('cause') ?? '';
  const [asks, setAsks] = useState(false);
  const [failure, setFailure] = useState('');
  const [asked, setAsked] = useState(0);
  const known = ix.drift;
  // It is asked for again while something goes on, and whenever the status says something new.
  const { data, error } = useGet<All>(`/api/indexes/${ix.name}/drift?${new URLSearchParams({ limit: '50', cause })}`,
    `${asked} ${known?.differing} ${known?.checkedAt} ${known?.hour} ${ix.edition}`, 2000);
  const act = (action: DriftAction) => {
    setAsks(false);
    setFailure('');
    post<DriftOrder>(`/api/indexes/${ix.name}/drift`, action).then(() => setAsked(asked + 1)).catch((e) => setFailure(e.message));
  };
  if (error && !data) return <Notice color="error">{error.message}</Notice>;
  if (!data) return <LinearProgress aria-label="Loading" />;
  const running = data.orders.find((o) => !o.endedAt);
  const { status } = data;
  const checks = data.orders.filter((o) => o.endedAt && o.asked.action === 'check').reverse();
  return (
    <Stack sx={{ gap: 2.5 }}>
      <Paper component="section" aria-label="Proof" sx={{ p: { xs: 2, sm: 2.5 } }}>
        <Stack direction="row" sx={{ gap: 1.5, alignItems: 'flex-start', justifyContent: 'space-between', flexWrap: 'wrap' }}>
          <Stack direction="row" sx={{ gap: 1.25, flex: '1 1 300px' }}>
            <StateMark state={status.differing > 0 ? 'differs' : status.day >= 1 ? 'in sync' : 'catching up'} />
            <Box>
              <Typography variant="h2">{status.differing > 0 ? `${count(status.differing)} ${status.differing === 1 ? 'document differs' : 'documents differ'}` : capital(status.sentence)}</Typography>
              <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, maxWidth: '70ch' }}>
                {status.differing > 0 ? `${capital(status.sentence)}.` : 'Pingo compares rows and documents continuously in the background. A check compares them now.'}
              </Typography>
            </Box>
          </Stack>
          {may && <Stack direction="row" sx={{ gap: 1 }}>
            {status.differing > 0 && !running && <Button size="small" variant="contained" onClick={() => setAsks(true)}>Repair</Button>}
            {running ? <Button size="small" color="inherit" onClick={() => act({ action: 'stop', id: running.id })}>Stop</Button>
              : <Button size="small" variant="outlined" onClick={() => act({ action: 'check' })}>Check now</Button>}
          </Stack>}
        </Stack>
        {failure && <Box sx={{ mt: 1.5 }}><Notice color="error">{failure}</Notice></Box>}
        {running && <Running order={running} />}
        <Strip drift={data} />
        <Stack direction="row" sx={{ gap: 3, mt: 1.5, flexWrap: 'wrap' }}>
          <Figure label="within an hour" value={percent(status.hour)} note={`of ${count(data.rows)} rows`} />
          <Figure label="within a day" value={percent(status.day)} />
          <Figure label="within a week" value={percent(status.week)} />
          <Figure label="documents without a row" value={status.kinds.orphaned ? count(status.kinds.orphaned) : status.scannedAt ? 'none' : '–'} note={status.scannedAt && `looked for ${ago(status.scannedAt)}`} />
          {checks.length > 1 && <Box sx={{ flex: '1 1 160px', minWidth: 140 }}>
            <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.78rem' }}>Documents that differed, last {checks.length} checks</Typography>
            <Spark data={checks.map((o) => o.differing)} label={`Documents that differed in the last ${checks.length} checks, ${checks.at(-1)!.differing} in the last`} />
          </Box>}
        </Stack>
      </Paper>
      {data.causes.length > 0 && <Differences name={ix.name} drift={data} cause={cause} choose={(c) => setParams(c ? { cause: c } : {})} repair={may && !running ? (key) => act({ action: 'repair', keys: [key] }) : undefined} />}
      <Paper component="section" aria-label="Checks" sx={{ p: { xs: 2, sm: 2.5 } }}>
        <Typography variant="h2" sx={{ mb: 1 }}>Checks and repairs</Typography>
        {data.orders.length === 0 ? <Typography variant="body2" sx={{ color: 'text.secondary' }}>No checks yet. Start one above, or schedule them in the definition: <code>drift: {'{'} check: "30 3 * * *" {'}'}</code>.</Typography> : (
          <Stack component="ul" sx={{ listStyle: 'none', p: 0, m: 0, gap: 1 }}>
            {data.orders.slice(0, 12).map((o) => (
              <Stack key={o.id} component="li" direction="row" sx={{ gap: 1.25, alignItems: 'flex-start' }}>
                <StateMark size={20} state={!o.endedAt ? 'filling' : o.problem ? 'waiting' : o.differing > o.repaired ? 'differs' : 'in sync'} />
                <Typography variant="body2" sx={{ overflowWrap: 'anywhere' }}>
                  <b>{capital(o.asked.action)}</b> {ago(o.askedAt)}, asked for by {o.by}. {o.sentence}
                  {o.endedAt && o.beganAt && <Box component="span" sx={{ color: 'text.secondary' }}> Took {duration(Date.parse(o.endedAt) - Date.parse(o.beganAt))}.</Box>}
                </Typography>
              </Stack>
            ))}
          </Stack>
        )}
      </Paper>
      {asks && (
        <Dialog open onClose={() => setAsks(false)} aria-labelledby="repair-asks">
          <DialogTitle id="repair-asks">Repair {count(status.differing)} {status.differing === 1 ? 'document' : 'documents'}?</DialogTitle>
          <DialogContent><DialogContentText>
            They are made of their rows as they are now, sent, and compared again.
            {status.kinds.orphaned ? ` ${count(status.kinds.orphaned)} without a row are deleted${status.kinds.orphaned > 10 ? ', as far as that is not more than one in a hundred of all' : ''}.` : ''}
          </DialogContentText></DialogContent>
          <DialogActions>
            <Button color="inherit" onClick={() => setAsks(false)}>Not now</Button>
            <Button variant="contained" autoFocus onClick={() => act({ action: 'repair' })}>Repair</Button>
          </DialogActions>
        </Dialog>
      )}
    </Stack>
  );
}

const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1);

// percent never rounds up to all.
const percent = (share: number) => (share >= 1 ? '100%' : `${(Math.floor(share * 1000) / 10).toLocaleString('en-GB')}%`);

function Running({ order }: { order: DriftOrder }) {
  const done = order.rows > 0 ? Math.min(100, (100 * order.compared) / order.rows) : 0;
  return (
    <Box sx={{ mt: 1.5 }}>
      <LinearProgress variant={order.compared > 0 ? 'determinate' : 'indeterminate'} value={done} aria-label={`${order.asked.action} under way`} sx={{ height: 6, borderRadius: 3 }} />
      <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5 }}>
        {order.problem ? order.sentence : order.compared > 0 ? `${count(order.compared)} of ${count(order.rows)} rows compared, ${count(order.differing)} differ` : `${count(order.scanned)} documents of the engine looked up`}
      </Typography>
    </Box>
  );
}

const ages: { within: number; word: string; strength: number }[] = [
  { within: 3600e3, word: 'an hour', strength: 100 }, { within: 24 * 3600e3, word: 'a day', strength: 65 }, { within: 7 * 24 * 3600e3, word: 'a week', strength: 35 },
];

// Strip shows the rows in the order of their keys, coloured by when they were compared.
function Strip({ drift }: { drift: All }) {
  const rows = Math.max(1, drift.segments.reduce((n, s) => n + s.rows, 0));
  const look = (at?: string) => {
    const age = at ? ages.find((a) => Date.now() - Date.parse(at) < a.within) : undefined;
    return age ? `color-mix(in srgb, var(--mui-palette-success-main) ${age.strength}%, var(--mui-palette-background-paper))` : 'var(--mui-palette-divider)';
  };
  return (
    <Box sx={{ mt: 2 }}>
      <Box role="img" aria-label={`${percent(drift.status.day)} of the rows were compared within a day`} sx={{ display: 'flex', height: 18, borderRadius: 1, overflow: 'hidden', gap: drift.segments.length < 80 ? '1px' : 0 }}>
        {drift.segments.map((s, i) => (
          <Tooltip key={i} title={`${count(s.rows)} rows, ${s.at ? `compared ${ago(s.at)}` : 'never compared'}${s.differing ? `, ${count(s.differing)} differed` : ''}`}>
            <Box sx={{ width: `${(100 * s.rows) / rows}%`, minWidth: s.rows > 0 ? 2 : 0, display: 'flex', bgcolor: look(s.at) }}>
              {s.differing > 0 && <Box sx={{ ml: 'auto', minWidth: 4, width: `${Math.min(100, (100 * s.differing) / Math.max(1, s.rows))}%`, bgcolor: 'warning.main' }} />}
            </Box>
          </Tooltip>
        ))}
        {drift.segments.length === 0 && <Box sx={{ flex: 1, bgcolor: 'divider' }} />}
      </Box>
      <Stack direction="row" sx={{ gap: 2, mt: 0.75, flexWrap: 'wrap', fontSize: '0.75rem', color: 'text.secondary' }}>
        <span>Rows by key, compared within</span>
        {ages.map((a) => <Legend key={a.word} color={look(new Date(Date.now() - a.within * 0.9).toISOString())}>{a.word}</Legend>)}
        <Legend color={look()}>never</Legend>
        <Legend color="var(--mui-palette-warning-main)">some differed</Legend>
      </Stack>
    </Box>
  );
}

function Legend({ color, children }: { color: string; children: string }) {
  return <Box component="span" sx={{ display: 'inline-flex', alignItems: 'center', gap: 0.5 }}><Box component="span" sx={{ width: 10, height: 10, borderRadius: 0.5, bgcolor: color }} />{children}</Box>;
}

function Differences({ name, drift, cause, choose, repair }: { name: string; drift: All; cause: string; choose: (cause: string) => void; repair?: (key: string) => void }) {
  return (
    <Paper component="section" aria-label="Differences" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Typography variant="h2" sx={{ mb: 1 }}>What differs, and why</Typography>
      <Stack sx={{ gap: 1 }}>
        {drift.causes.map((c) => (
          <Box key={c.cause} component="button" aria-pressed={cause === c.cause} onClick={() => choose(cause === c.cause ? '' : c.cause)} sx={{
            textAlign: 'left', font: 'inherit', color: 'inherit', p: 1.25, borderRadius: 1.5, cursor: 'pointer', border: 1,
            borderColor: cause === c.cause ? 'primary.main' : 'divider', bgcolor: 'transparent', '&:hover': { bgcolor: 'action.hover' },
          }}>
            <Typography sx={{ fontWeight: 600, fontSize: '0.92rem' }}>{capital(c.cause)}: {count(c.count)}</Typography>
            <Typography variant="body2" sx={{ color: 'text.secondary' }}>{c.sentence}</Typography>
          </Box>
        ))}
      </Stack>
      <Box sx={{ overflowX: 'auto', mt: 1.5 }}>
        <Table size="small">
          <TableHead><TableRow><TableCell>Key</TableCell><TableCell>Kind</TableCell><TableCell>Likeliest cause</TableCell><TableCell>Found</TableCell>{repair && <TableCell />}</TableRow></TableHead>
          <TableBody>
            {drift.differences.map((d) => (
              <TableRow key={d.key}>
                <TableCell><Link component={To} to={`/indexes/${name}/record?key=${encodeURIComponent(d.key)}`}>{d.key}</Link></TableCell>
                <TableCell>{d.kind}</TableCell><TableCell>{d.cause}</TableCell><TableCell sx={{ whiteSpace: 'nowrap' }}>{ago(d.foundAt)}</TableCell>
                {repair && <TableCell align="right"><Button size="small" onClick={() => repair(d.key)} aria-label={`Repair ${d.key}`}>Repair</Button></TableCell>}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Box>
      {drift.matching > drift.differences.length && <Typography variant="body2" sx={{ color: 'text.secondary', mt: 1 }}>and {count(drift.matching - drift.differences.length)} more</Typography>}
    </Paper>
  );
}

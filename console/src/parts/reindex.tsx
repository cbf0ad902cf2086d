// The edition that is being filled next to the live one, and the previous one: progress, gates, steps, and actions.
import { Box, Button, Dialog, DialogActions, DialogContent, DialogContentText, DialogTitle, LinearProgress, Paper, Stack, TextField, Typography } from '@mui/material';
import { useState, type ReactNode } from 'react';
import { post, useGet, useMay, type Estimate, type FillStatus, type IndexStatus, type Pace, type Reindexed, type Run } from '../api';
import { bytes, count, duration, rate } from '../format';
import { Compare } from './compare';
import { Figure, Notice, Spark, StateMark } from './parts';

const gateNames = { complete: 'Complete', refused: 'Failed documents', size: 'Size', content: 'Content', expect: 'Expected searches' };

type Action = 'start' | 'switch' | 'cancel' | 'rollback' | 'drop';

// A change that most documents need: how far they are, and what a person can do.
export function WideChange({ ix }: { ix: IndexStatus }) {
  const may = useMay('operator');
  const [error, setError] = useState('');
  const wide = ix.rebuild;
  if (!wide) return null;
  const act = (action: string) => {
    setError('');
    post<Reindexed>(`/api/indexes/${ix.name}/reindex`, { action }).catch((e) => setError(e.message));
  };
  const done = wide.expected > 0 ? Math.min(100, (100 * wide.rows) / wide.expected) : 0;
  return (
    <Paper component="section" aria-label="A change of most documents" sx={{ p: { xs: 2, sm: 2.5 }, mb: 2.5 }}>
      <Stack direction="row" sx={{ gap: 1.5, alignItems: 'flex-start', justifyContent: 'space-between', flexWrap: 'wrap' }}>
        <Box sx={{ minWidth: 0, flex: '1 1 260px' }}>
          <Typography variant="h2">A change of most documents</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, maxWidth: '80ch' }}>
            {wide.paused ? 'It is paused. Searches find the old values in what is left; fresh changes still arrive.' : 'All documents are built again. Fresh changes go first.'}
          </Typography>
        </Box>
        {may && !ix.fill && <Button size="small" variant="outlined" onClick={() => act(wide.paused ? 'resume' : 'pause')}>{wide.paused ? 'Go on' : 'Pause'}</Button>}
      </Stack>
      <LinearProgress variant="determinate" value={done} aria-label="Documents built again" sx={{ mt: 2, height: 6, borderRadius: 3 }} />
      <Stack direction="row" sx={{ gap: 3, mt: 1.5, flexWrap: 'wrap' }}>
        <Figure label="Rows" value={count(wide.rows)} note={wide.expected > 0 ? `of about ${count(wide.expected)}` : undefined} />
        <Figure label="Rows a second" value={wide.perSecond > 0 ? rate(wide.perSecond) : '–'} />
        <Figure label="Left" value={wide.leftMs > 0 ? duration(wide.leftMs) : '–'} />
      </Stack>
      {error && <Box sx={{ mt: 2 }}><Notice color="error">{error}</Notice></Box>}
    </Paper>
  );
}

export function Reindex({ ix }: { ix: IndexStatus }) {
  const may = useMay('operator');
  const [asks, setAsks] = useState<'' | Action | 'pace'>('');
  const [comparing, setComparing] = useState(false);
  const [error, setError] = useState('');
  const fill = ix.fill;
  const { data: runs } = useGet<Run[]>(`/api/indexes/${ix.name}/reindex`, `${ix.edition} ${ix.previous} ${fill?.edition} ${fill?.state} ${fill?.halted}`);
  const { data: estimate } = useGet<Estimate>(asks === 'start' ? `/api/indexes/${ix.name}/reindex/estimate` : '');
  const stopped = fill?.gates?.filter((g) => !g.passed) ?? [];
  const act = (action: string, pace?: Pace) => {
    setAsks('');
    setError('');
    const more = action === 'rollback' ? { edition: ix.previous, cancel: !!fill } : action === 'drop' ? { edition: ix.previous } : { pace };
    post<Reindexed>(`/api/indexes/${ix.name}/reindex`, { action, ...more }).catch((e) => setError(e.message));
  };
  const previous = runs?.find((r) => r.edition === ix.previous);
  const shown = runs?.find((r) => r.edition === (fill?.edition ?? ix.edition));
  const course = fill?.course ?? [];
  const waitsForYou = fill?.byHand;
  return (
    <Paper component="section" aria-label="Reindex" sx={{ p: { xs: 2, sm: 2.5 }, mb: 2.5, ...(waitsForYou && { borderColor: 'warning.main' }) }}>
      <Stack direction="row" sx={{ gap: 1.5, alignItems: 'flex-start', justifyContent: 'space-between', flexWrap: 'wrap' }}>
        <Box sx={{ minWidth: 0, flex: '1 1 260px' }}>
          <Typography variant="h2">{fill ? fill.edition : 'Editions'}</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, maxWidth: '80ch' }}>
            {!fill ? `${ix.edition} is live, from version ${ix.definition} of the definition. A rebuild fills another edition; searches continue.`
              : fill.byHand && stopped.length > 0 ? 'Complete and kept in sync. One gate failed, so it needs your decision.'
              : fill.byHand ? 'Filled and in sync. It waits for your decision.'
              : fill.waits ? `It is ${fill.state}: ${fill.waits}.`
              : fill.state === 'filling' ? (ix.live ? `Filling. ${ix.edition} is live.` : 'First fill. No edition is live yet.') : `It is ${fill.state}.`}
          </Typography>
        </Box>
        <Stack direction="row" sx={{ gap: 1, flexWrap: 'wrap' }}>
          {may && !fill && ix.live && <Button size="small" variant="outlined" onClick={() => setAsks('start')}>Rebuild</Button>}
          {may && waitsForYou && <Button size="small" variant="outlined" onClick={() => setAsks('switch')}>Switch</Button>}
          {may && fill?.state === 'filling' && (fill.halted
            ? <Button size="small" variant="outlined" onClick={() => act('resume')}>Go on</Button>
            : <Button size="small" variant="outlined" onClick={() => act('pause')}>Pause</Button>)}
          {may && fill?.state === 'filling' && <Button size="small" color="inherit" onClick={() => setAsks('pace')}>Pace</Button>}
          {ix.live && (fill?.state === 'ready' || ix.previous) && <Button size="small" color="inherit" onClick={() => setComparing(true)}>Compare</Button>}
          {may && fill && ix.live && <Button size="small" color="inherit" onClick={() => setAsks('cancel')}>Discard</Button>}
        </Stack>
      </Stack>
      {fill?.state === 'filling' && fill.expected > 0 && <>
        <Strip fill={fill} />
        <Stack direction="row" sx={{ gap: 3, mt: 1.5, flexWrap: 'wrap' }}>
          <Figure label="Rows" value={count(fill.rows)} note={`of ${count(fill.expected)}`} />
          <Figure label="Rows a second" value={fill.perSecond > 0 ? rate(fill.perSecond) : '–'} note={fill.helpers ? processes(fill.helpers + 1) : paceWords(fill.pace)} />
          <Figure label="Left" value={fill.leftMs > 0 ? duration(fill.leftMs) : '–'} />
          <Figure label="Sent" value={count(fill.delivered)} note={`in ${count(fill.requests)} requests`} />
          <Figure label="Size" value={bytes(fill.bytes)} />
          <Figure label="Failed" value={count(fill.failed)} color={fill.failed > 0 ? 'warning.main' : undefined} />
          <Box sx={{ flex: '1 1 160px', minWidth: 140 }}>
            <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.78rem' }}>Rows a second, this run</Typography>
            <Spark data={course.map((p) => p.perSecond)} label={`Rows a second since this run began, ${rate(fill.perSecond)} now`} />
          </Box>
        </Stack>
      </>}
      {fill?.gates && <Stack component="ul" sx={{ listStyle: 'none', p: 0, m: 0, mt: 1.5, gap: 1 }}>
        {fill.gates.map((g) => (
          <Stack key={g.name} component="li" direction="row" sx={{ gap: 1.25, alignItems: 'flex-start' }}>
            <StateMark state={g.passed ? 'in sync' : 'waiting'} size={20} />
            <Typography variant="body2" sx={{ overflowWrap: 'anywhere' }}><Box component="span" sx={{ fontWeight: 600 }}>{gateNames[g.name]}: {g.passed ? 'passed' : 'failed'}.</Box> {g.sentence}.</Typography>
          </Stack>
        ))}
      </Stack>}
      {previous && (
        <Stack direction="row" sx={{ gap: 1.5, mt: 1.5, alignItems: 'center', justifyContent: 'space-between', flexWrap: 'wrap' }}>
          <Typography variant="body2" sx={{ flex: '1 1 260px', overflowWrap: 'anywhere' }}>
            {previous.edition} was live before, from version {previous.definition}. Pingo keeps it in sync{previous.keptUntil && ` until ${clock(previous.keptUntil)}`}.
          </Typography>
          {may && <Stack direction="row" sx={{ gap: 1 }}>
            {fill?.state !== 'returning' && <Button size="small" variant="outlined" onClick={() => setAsks('rollback')}>Roll back</Button>}
            <Button size="small" color="inherit" onClick={() => setAsks('drop')}>Drop</Button>
          </Stack>}
        </Stack>
      )}
      {shown && <Timeline run={shown} />}
      {error && <Box sx={{ mt: 1.5 }}><Notice color="error">{error}</Notice></Box>}
      {comparing && <Compare name={ix.name} close={() => setComparing(false)} />}
      {asks === 'pace' && fill && <PaceDialog pace={fill.pace} close={() => setAsks('')} set={(p) => act('pace', p)} />}
      {asks && asks !== 'pace' && <Question {...question(asks, ix, stopped.map((g) => g.sentence), estimate)} no={() => setAsks('')} agree={() => act(asks)} />}
    </Paper>
  );
}

const processes = (n: number) => `by ${n} processes`;

// Strip shows which chunks are done, in the order of their keys: the rest of its length is not planned yet.
function Strip({ fill }: { fill: FillStatus }) {
  const chunks = fill.chunks ?? [];
  const planned = chunks.reduce((sum, c) => sum + c.rows, 0);
  const total = Math.max(1, fill.expected, planned);
  const lent = chunks.some((c) => c.state === 'lent');
  const open = chunks.some((c) => c.state === 'open');
  const colors = { done: 'primary.main', open: 'primary.light', lent: 'info.main' };
  return (
    <Box sx={{ mt: 1.5 }}>
      <Stack
        direction="row" role="progressbar" aria-label="Rows done" aria-valuemin={0} aria-valuemax={100} aria-valuenow={Math.min(100, Math.round((100 * fill.rows) / total))}
        sx={{ height: 10, borderRadius: 1, overflow: 'hidden', bgcolor: 'action.hover' }}
      >
        {chunks.map((c, i) => (
          <Box key={i} sx={{ width: `${(100 * c.rows) / total}%`, minWidth: c.state === 'done' ? 0 : '3px', flexShrink: c.state === 'done' ? 1 : 0, bgcolor: colors[c.state], ...(c.state !== 'done' && { borderLeft: 1, borderColor: 'background.paper' }) }} />
        ))}
      </Stack>
      <Stack direction="row" sx={{ gap: 2, mt: 0.75, flexWrap: 'wrap', color: 'text.secondary' }}>
        <Key color={colors.done}>done</Key>
        {open && <Key color={colors.open}>being filled{lent ? ' here' : ''}</Key>}
        {lent && <Key color={colors.lent}>for other processes</Key>}
        <Typography variant="body2" sx={{ fontSize: '0.78rem' }}>in the order of the keys</Typography>
      </Stack>
    </Box>
  );
}

function Key({ color, children }: { color: string; children: ReactNode }) {
  return (
    <Stack direction="row" sx={{ gap: 0.75, alignItems: 'center' }}>
      <Box sx={{ width: 10, height: 10, borderRadius: 0.5, bgcolor: color }} />
      <Typography variant="body2" sx={{ fontSize: '0.78rem' }}>{children}</Typography>
    </Stack>
  );
}

const clock = (iso: string) => new Date(iso).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' });

function question(action: Action, ix: IndexStatus, stopped: string[], estimate?: Estimate) {
  const fill = ix.fill?.edition;
  switch (action) {
    case 'start': return {
      title: `Rebuild ${ix.name}?`, yes: 'Start rebuild',
      text: `${ix.edition} stays live until then.` + (estimate
        ? ` ${count(estimate.rows)} rows are read, and as many documents sent${estimate.bytes > 0 ? `, ${bytes(estimate.bytes)}` : ''}.${estimate.seconds > 0 ? ` That takes about ${duration(estimate.seconds * 1000)}: ${estimate.rests}.` : ''}` : ''),
    };
    case 'switch': return { title: `Switch to ${fill}?`, yes: 'Make it live', text: `${stopped.length > 0 ? `${stopped.join('; ')}. ` : ''}Pingo keeps ${ix.edition} in sync for a rollback, as long as the definition says.` };
    case 'cancel': return { title: `Delete ${fill}?`, yes: 'Delete it', text: `${ix.edition} stays live.` };
    case 'rollback': return { title: `Roll back to ${ix.previous}?`, yes: 'Make it live', text: `It has every change that ${ix.edition} has, by its own version of the definition. Pingo keeps ${ix.edition}, so you can undo the rollback.${fill ? ` ${fill} is ${ix.fill?.state}, and Pingo deletes it.` : ''}` };
    case 'drop': return { title: `Drop ${ix.previous}?`, yes: 'Delete it', text: `Pingo deletes it from the engine and no longer sends changes to it. You can then no longer roll back to it. ${ix.edition} stays live.` };
  }
}

function Question({ title, text, yes, no, agree }: { title: string; text: string; yes: string; no: () => void; agree: () => void }) {
  return (
    <Dialog open onClose={no} aria-labelledby="reindex-asks">
      <DialogTitle id="reindex-asks">{title}</DialogTitle>
      <DialogContent><DialogContentText>{text}</DialogContentText></DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={no}>Not now</Button>
        <Button variant="contained" onClick={agree} autoFocus>{yes}</Button>
      </DialogActions>
    </Dialog>
  );
}

function paceWords(p: Pace) {
  const bounds = [p.documents && `${count(p.documents)} a second at most`, p.bytes && `${bytes(p.bytes)}/s at most`, p.workers && `${p.workers} workers`, p.hours].filter(Boolean);
  return bounds.join(', ');
}

function PaceDialog({ pace, close, set }: { pace: Pace; close: () => void; set: (p?: Pace) => void }) {
  const [documents, setDocuments] = useState(pace.documents ? String(pace.documents) : '');
  const [workers, setWorkers] = useState(pace.workers ? String(pace.workers) : '');
  const [hours, setHours] = useState(pace.hours ?? '');
  const wrong = hours !== '' && !/^\d\d:\d\d-\d\d:\d\d$/.test(hours);
  return (
    <Dialog open onClose={close} aria-labelledby="pace-title">
      <DialogTitle id="pace-title">How fast it may be filled</DialogTitle>
      <DialogContent>
        <Stack sx={{ gap: 2, pt: 1, minWidth: { sm: 340 } }}>
          <TextField size="small" autoFocus type="number" label="Documents a second at most" value={documents} onChange={(e) => setDocuments(e.target.value)} helperText="Empty: no bound" />
          <TextField size="small" type="number" label="Workers at most" value={workers} onChange={(e) => setWorkers(e.target.value)} helperText="Chunks that are read and sent side by side" />
          <TextField size="small" label="Hours" value={hours} onChange={(e) => setHours(e.target.value)} error={wrong} helperText="Such as 22:00-06:00; empty: always" />
        </Stack>
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={() => set(undefined)}>As the definition says</Button>
        <Button variant="contained" disabled={wrong} onClick={() => set({ documents: Number(documents) || 0, workers: Number(workers) || 0, bytes: pace.bytes, hours })}>Set it</Button>
      </DialogActions>
    </Dialog>
  );
}

// Timeline lists the steps of an edition and their durations.
function Timeline({ run }: { run: Run }) {
  if (run.events.length === 0) return null;
  const at = run.events.map((e) => new Date(e.at).getTime());
  return (
    <Box component="details" sx={{ mt: 1.5 }}>
      <Typography component="summary" variant="body2" sx={{ cursor: 'pointer', color: 'text.secondary' }}>
        History{run.filledAt && run.beganAt ? `: filled in ${duration(new Date(run.filledAt).getTime() - new Date(run.beganAt).getTime())}` : ''}
      </Typography>
      <Stack component="ol" sx={{ listStyle: 'none', p: 0, m: 0, mt: 1, gap: 0.25 }}>
        {run.events.map((e, i) => (
          <Typography key={i} component="li" variant="body2">
            <Box component="span" sx={{ color: 'text.secondary', mr: 1, fontVariantNumeric: 'tabular-nums' }}>{clock(e.at)}</Box>
            {e.what}{i + 1 < at.length && <Box component="span" sx={{ color: 'text.secondary' }}> for {duration(at[i + 1] - at[i])}</Box>}
          </Typography>
        ))}
      </Stack>
    </Box>
  );
}

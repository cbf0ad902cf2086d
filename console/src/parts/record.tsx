// Why a record is, or is not, in search as it is.
import { Box, Button, LinearProgress, Paper, Stack, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useState } from 'react';
import { useSearchParams } from 'react-router-dom';
import { post, useGet, useMay, type DriftOrder, type IndexStatus, type State, type Traced } from '../api';
import { bytes, duration, time } from '../format';
import { ago } from '../pages/Overview';
import { Code, Notice, StateMark } from './parts';

const marks: Record<Traced['state'], State> = {
  good: 'in sync', outside: 'in sync', none: 'empty', waiting: 'waiting', refused: 'blocked', missing: 'differs', stale: 'differs', altered: 'differs', orphaned: 'differs',
};
const json = (v: unknown) => JSON.stringify(v, null, 2);
const short = (v: unknown) => (v === undefined ? '–' : JSON.stringify(v));

export function Record({ ix }: { ix: IndexStatus }) {
  const [params, setParams] = useSearchParams();
  const key = params.get('key') ?? '';
  const [text, setText] = useState(key);
  const [last, setLast] = useState(key);
  if (key !== last) { setLast(key); setText(key); } // a link led here
  return (
    <Stack sx={{ gap: 2.5 }}>
      <Paper component="section" aria-label="Record" sx={{ p: { xs: 2, sm: 2.5 } }}>
        <Stack component="form" direction="row" sx={{ gap: 1.5, alignItems: 'flex-start' }} onSubmit={(e) => { e.preventDefault(); setParams(text ? { key: text } : {}); }}>
          <TextField size="small" autoFocus fullWidth label={`Key of a record of ${ix.name}`} value={text} onChange={(e) => setText(e.target.value)}
            helperText="As search gives it, such as 42; the values of a key with several columns are joined by commas" />
          <Button type="submit" variant="contained" disabled={!text} sx={{ minHeight: 40 }}>Trace</Button>
        </Stack>
        {!key && <Typography variant="body2" sx={{ color: 'text.secondary', mt: 1 }}>Shows whether the row exists and passes the filter, its pending changes, and how its document differs.</Typography>}
      </Paper>
      {key && <Answer ix={ix} docKey={key} />}
    </Stack>
  );
}

function Answer({ ix, docKey }: { ix: IndexStatus; docKey: string }) {
  const may = useMay('operator');
  const [failure, setFailure] = useState('');
  const [asked, setAsked] = useState(0);
  const { data: t, error } = useGet<Traced>(`/api/indexes/${ix.name}/trace/${encodeURIComponent(docKey)}`, `${ix.delivered} ${ix.drift?.differing} ${asked}`, 3000);
  if (error) return <Notice color="error">{error.message}</Notice>;
  if (!t) return <LinearProgress aria-label="Loading" />;
  const mendable = marks[t.state] === 'differs';
  const repair = () => {
    setFailure('');
    post<DriftOrder>(`/api/indexes/${ix.name}/drift`, { action: 'repair', keys: [docKey] }).then(() => setAsked(asked + 1)).catch((e) => setFailure(e.message));
  };
  return (
    <>
      <Paper component="section" aria-label="Verdict" sx={{ p: { xs: 2, sm: 2.5 } }}>
        <Stack direction="row" sx={{ gap: 1.5, alignItems: 'flex-start', justifyContent: 'space-between', flexWrap: 'wrap' }}>
          <Stack direction="row" sx={{ gap: 1.25, flex: '1 1 320px' }}>
            <StateMark state={marks[t.state]} />
            <Box>
              <Typography variant="h2" aria-live="polite" sx={{ overflowWrap: 'anywhere' }}>{t.verdict}</Typography>
              {t.next && <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5 }}>{t.next}</Typography>}
            </Box>
          </Stack>
          {may && mendable && <Button size="small" variant="contained" onClick={repair}>Repair it</Button>}
        </Stack>
        {failure && <Box sx={{ mt: 1.5 }}><Notice color="error">{failure}</Notice></Box>}
        <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'max-content 1fr', columnGap: 3, rowGap: 0.5, mt: 2, mb: 0, fontSize: '0.875rem', '& dt': { color: 'text.secondary' }, '& dd': { m: 0, overflowWrap: 'anywhere' } }}>
          <dt>Row in the database</dt><dd>{t.row ? 'there is one' : 'none'}</dd>
          {t.row && <><dt>Belongs in the index</dt><dd>{t.inside ? 'yes' : 'no: where keeps it out'}</dd></>}
          <dt>Document in {t.edition}</dt><dd>{t.stored ? 'there is one' : 'none'}</dd>
          <dt>Pending changes</dt><dd>{t.changes.length === 0 ? 'none of this row' : t.changes.map((c) => `${c.op} of ${c.table}, ${ago(c.at)}`).join('; ')}</dd>
          {t.fedBy && <><dt>Recent builds</dt><dd>the process at {t.fedBy}, which feeds the index, knows</dd></>}
          {t.deliveries && <><dt>Recent builds</dt><dd>{t.deliveries.last.length === 0 ? `no change of the row since ${time(t.deliveries.since)}` : t.deliveries.last.map((d) => (
            <Box key={d.at}>{d.outcome} at {time(d.at)}{d.changedAt && `, ${duration(Date.parse(d.at) - Date.parse(d.changedAt))} after the change`}{d.bytes > 0 && `, ${bytes(d.bytes)}`}</Box>
          ))}</dd></>}
          {t.failed && <><dt>Failed</dt><dd>{t.failed.attempts === 1 ? 'once' : `${t.failed.attempts} times`}, last {ago(t.failed.lastAt)}: {t.failed.reason}</dd></>}
          {t.difference && <><dt>A check found</dt><dd>{t.difference.kind}, {ago(t.difference.foundAt)}: {t.difference.cause}</dd></>}
        </Box>
      </Paper>
      {t.fields.length > 0 && (
        <Paper component="section" aria-label="Fields that differ" sx={{ p: { xs: 2, sm: 2.5 }, overflowX: 'auto' }}>
          <Typography variant="h2" sx={{ mb: 1 }}>Fields that differ</Typography>
          <Table size="small" sx={{ '& td': { overflowWrap: 'anywhere', verticalAlign: 'top' } }}>
            <TableHead><TableRow><TableCell>Field</TableCell><TableCell>In the engine</TableCell><TableCell>As the row makes it now</TableCell></TableRow></TableHead>
            <TableBody>{t.fields.map((f) => (
              <TableRow key={f.path}><TableCell sx={{ fontWeight: 600 }}>{f.path}</TableCell>
                <TableCell sx={{ color: 'warning.main' }}>{short(f.old)}</TableCell><TableCell sx={{ color: 'success.main' }}>{short(f.new)}</TableCell></TableRow>
            ))}</TableBody>
          </Table>
        </Paper>
      )}
      <Box sx={{ display: 'grid', gap: 2.5, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: t.fields.length > 0 ? 'minmax(0, 1fr) minmax(0, 1fr)' : 'minmax(0, 1fr)' }, alignItems: 'start' }}>
        {(t.fields.length > 0 || !t.built) && t.stored != null && <Side title="In the engine" doc={t.stored} />}
        {t.built != null && <Side title={t.state === 'good' ? 'The document, in the engine as the row makes it now' : 'As the row makes it now'} doc={t.built} />}
      </Box>
    </>
  );
}

function Side({ title, doc }: { title: string; doc: unknown }) {
  return (
    <Paper component="section" aria-label={title} sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Typography variant="h2" sx={{ mb: 1 }}>{title}</Typography>
      <Code>{json(doc)}</Code>
    </Paper>
  );
}

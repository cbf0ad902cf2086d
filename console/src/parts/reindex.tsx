// The edition that is being filled beside the one that answers: how far it is, what it must come to,
// and what a person can do.
import { Box, Button, Dialog, DialogActions, DialogContent, DialogContentText, DialogTitle, LinearProgress, Paper, Stack, Typography } from '@mui/material';
import { useState } from 'react';
import { post, useMay, type IndexStatus, type Reindexed } from '../api';
import { count } from '../format';
import { Notice, StateMark } from './parts';

const gateNames = { complete: 'It has what its rows make', refused: 'No more failed documents', size: 'It is not much smaller' };

export function Reindex({ ix }: { ix: IndexStatus }) {
  const may = useMay('operator');
  const [asks, setAsks] = useState<'' | 'start' | 'switch' | 'cancel'>('');
  const [error, setError] = useState('');
  const fill = ix.fill;
  const stopped = fill?.gates?.filter((g) => !g.passed) ?? [];
  const act = (action: string) => {
    setAsks('');
    setError('');
    post<Reindexed>(`/api/indexes/${ix.name}/reindex`, { action }).catch((e) => setError(e.message));
  };
  if (!fill && (!may || !ix.live)) return null;
  const question = {
    start: { title: `Fill ${ix.name} anew?`, text: `All its rows are read and sent to another edition. ${ix.edition} answers until that is done.`, yes: 'Fill it' },
    switch: { title: `Have ${fill?.edition} answer?`, text: `${stopped.map((g) => g.sentence).join('; ')}. ${ix.edition} is dropped then.`, yes: 'Have it answer' },
    cancel: { title: `Drop ${fill?.edition}?`, text: `${ix.edition} goes on answering.`, yes: 'Drop it' },
  };
  return (
    <Paper component="section" aria-label="Reindex" sx={{ p: { xs: 2, sm: 2.5 }, mb: 2.5, ...(stopped.length > 0 && { borderColor: 'warning.main' }) }}>
      <Stack direction="row" sx={{ gap: 1.5, alignItems: 'flex-start', justifyContent: 'space-between', flexWrap: { xs: 'wrap', sm: 'nowrap' } }}>
        <Box sx={{ minWidth: 0 }}>
          <Typography variant="h2">{fill ? fill.edition : 'Reindex'}</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, maxWidth: '80ch' }}>
            {!fill ? 'Another edition can be filled beside the one that answers. Searches notice nothing.'
              : stopped.length > 0 ? 'It is filled, kept in sync, and waits for you, since it is worse than the one that answers.'
              : fill.state === 'filling' ? `Filling: ${count(fill.rows)} of ${count(fill.expected)} rows.` : `It is ${fill.state}.`}
          </Typography>
        </Box>
        {may && <Stack direction="row" sx={{ gap: 1, flexShrink: 0 }}>
          {!fill && <Button size="small" variant="outlined" onClick={() => setAsks('start')}>Fill anew</Button>}
          {stopped.length > 0 && <Button size="small" variant="outlined" onClick={() => setAsks('switch')}>Have it answer</Button>}
          {fill && ix.live && <Button size="small" color="inherit" onClick={() => setAsks('cancel')}>Drop it</Button>}
        </Stack>}
      </Stack>
      {fill?.state === 'filling' && fill.expected > 0 && <LinearProgress variant="determinate" aria-label="Rows done" value={Math.min(100, (100 * fill.rows) / fill.expected)} sx={{ mt: 1.5, height: 6, borderRadius: 3 }} />}
      {fill?.gates && <Stack component="ul" sx={{ listStyle: 'none', p: 0, m: 0, mt: 1.5, gap: 1 }}>
        {fill.gates.map((g) => (
          <Stack key={g.name} component="li" direction="row" sx={{ gap: 1.25, alignItems: 'flex-start' }}>
            <StateMark state={g.passed ? 'in sync' : 'waiting'} size={20} />
            <Typography variant="body2"><Box component="span" sx={{ fontWeight: 600 }}>{gateNames[g.name]}{g.passed ? '' : ': no'}.</Box> {g.sentence}.</Typography>
          </Stack>
        ))}
      </Stack>}
      {error && <Box sx={{ mt: 1.5 }}><Notice color="error">{error}</Notice></Box>}
      {asks && <Dialog open onClose={() => setAsks('')} aria-labelledby="reindex-asks">
        <DialogTitle id="reindex-asks">{question[asks].title}</DialogTitle>
        <DialogContent><DialogContentText>{question[asks].text}</DialogContentText></DialogContent>
        <DialogActions>
          <Button color="inherit" onClick={() => setAsks('')}>Not now</Button>
          <Button variant="contained" onClick={() => act(asks)} autoFocus>{question[asks].yes}</Button>
        </DialogActions>
      </Dialog>}
    </Paper>
  );
}

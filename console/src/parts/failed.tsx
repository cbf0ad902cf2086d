// Failed documents, gathered by cause: what the engine said, what it means, and what
// a person can do.
import { Box, Button, Link, Paper, Stack, Typography } from '@mui/material';
import { useState } from 'react';
import { post, useGet, useMay, type DocumentCount, type FailedDetail, type FailedDocument, type FailedGroup } from '../api';
import { count, time } from '../format';
import { Notice } from './parts';

export function FailedDocuments({ name, failed, show }: { name: string; failed: number; show: (key: string) => void }) {
  const [again, setAgain] = useState(0);
  const { data, error } = useGet<FailedGroup[]>(`/api/failed?index=${encodeURIComponent(name)}`, `${failed}/${again}`);
  return (
    <Paper component="section" id="failed" aria-label="Failed documents" sx={{ p: { xs: 2, sm: 2.5 }, mb: 2.5, borderColor: 'error.main' }}>
      <Typography variant="h2" gutterBottom>{count(failed)} failed {failed === 1 ? 'document' : 'documents'}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', mb: 1.5, maxWidth: '80ch' }}>They could not be built, or the engine refused them. Each is tried again when its row changes, and leaves this list when it is accepted. Nothing else waits for it.</Typography>
      {error && <Notice color="error">{error.message}</Notice>}
      <Stack sx={{ gap: 2 }}>{data?.map((g) => <Group key={g.cause} name={name} group={g} again={again} treated={() => setAgain((n) => n + 1)} show={show} />)}</Stack>
    </Paper>
  );
}

export function Group({ name, group: g, again, treated, show }: { name: string; group: FailedGroup; again: number; treated: () => void; show: (key: string) => void }) {
  const may = useMay('operator');
  const [said, setSaid] = useState('');
  const [error, setError] = useState('');
  const [open, setOpen] = useState('');
  const { data } = useGet<FailedDocument[]>(`/api/indexes/${name}/failed?limit=20&cause=${g.cause}`, `${g.lastAt}/${g.documents}/${again}`);
  const treat = (how: 'retry' | 'dismiss') => {
    setError('');
    post<DocumentCount>(`/api/indexes/${name}/failed/${how}`, { cause: g.cause })
      .then((r) => { setSaid(how === 'retry' ? `${count(r.documents)} sent again. Those that are refused again stay here.` : ''); treated(); setTimeout(treated, 1000); setTimeout(treated, 3000); })
      .catch((e) => setError(e.message));
  };
  return (
    <Box component="section" aria-label={g.pattern} sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5 }}>
      <Stack direction="row" sx={{ gap: 1.5, alignItems: 'flex-start', flexWrap: { xs: 'wrap', sm: 'nowrap' } }}>
        <Box sx={{ flexGrow: 1, minWidth: 0 }}>
          <Typography variant="body2" sx={{ fontWeight: 600 }}>{g.explanation}</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary', overflowWrap: 'anywhere', mt: 0.5 }}>Reason: {g.pattern}</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5 }}>{count(g.documents)} {g.documents === 1 ? 'document' : 'documents'}, first {time(g.firstAt)}, last {time(g.lastAt)}</Typography>
        </Box>
        {may && <Stack direction="row" sx={{ gap: 1, flexShrink: 0 }}>
          <Button size="small" variant="outlined" onClick={() => treat('retry')}>Retry {g.documents === 1 ? 'it' : 'all'}</Button>
          <Button size="small" color="inherit" onClick={() => treat('dismiss')}>Dismiss</Button>
        </Stack>}
      </Stack>
      {said && <Typography variant="body2" role="status" sx={{ mt: 0.5 }}>{said}</Typography>}
      {error && <Notice color="error">{error}</Notice>}
      <Stack direction="row" sx={{ gap: 1, flexWrap: 'wrap', mt: 1 }}>
        {data?.map((f) => <Link key={f.key} component="button" aria-expanded={open === f.key} onClick={() => { setOpen(open === f.key ? '' : f.key); show(f.key); }} sx={{ fontSize: '0.875rem', fontWeight: open === f.key ? 700 : 400 }}>{f.key}</Link>)}
        {data && g.documents > data.length && <Typography variant="body2" sx={{ color: 'text.secondary' }}>and {count(g.documents - data.length)} more: pingo failed list {name} --cause {g.cause}</Typography>}
      </Stack>
      {open && <AsSent name={name} failedKey={open} again={again} />}
    </Box>
  );
}

// AsSent shows the refused document, the line of the field at fault marked.
function AsSent({ name, failedKey, again }: { name: string; failedKey: string; again: number }) {
  const { data, error } = useGet<FailedDetail>(`/api/indexes/${name}/failed/${encodeURIComponent(failedKey)}`, again);
  if (error) return <Notice color="error">{error.message}</Notice>;
  if (!data) return null;
  const field = data.field?.split('.').pop();
  return (
    <Box sx={{ mt: 1 }}>
      <Typography variant="body2" sx={{ overflowWrap: 'anywhere' }}>Failed {data.attempts === 1 ? 'once' : `${data.attempts} times`}: {data.reason}</Typography>
      <Typography variant="body2" sx={{ my: 0.75 }}>{data.verdict}</Typography>
      {data.document != null && <Box component="pre" tabIndex={0} aria-label="The document as it was sent" sx={{ m: 0, py: 1, maxHeight: 320, overflow: 'auto', borderRadius: 1.5, bgcolor: 'background.default', border: 1, borderColor: 'divider', fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', fontSize: '0.8rem', lineHeight: 1.55 }}>
        {JSON.stringify(data.document, null, 2).split('\n').map((line, i) => {
          const marked = field !== undefined && line.trimStart().startsWith(`"${field}":`);
          return <Box key={i} component={marked ? 'mark' : 'div'} sx={{ display: 'block', px: 1.5, ...(marked && { bgcolor: 'error.main', color: 'background.paper' }) }}>{line}</Box>;
        })}
      </Box>}
    </Box>
  );
}

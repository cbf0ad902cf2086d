// How two editions of an index differ: field by field, and in what a search finds.
import { Box, Dialog, DialogContent, DialogTitle, IconButton, LinearProgress, Stack, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography, useMediaQuery } from '@mui/material';
import { useEffect, useState } from 'react';
import { useGet, type Comparison, type Document, type Hits } from '../api';
import { count, headline } from '../format';
import { Notice } from './parts';

export function Compare({ name, close }: { name: string; close: () => void }) {
  const { data, error, isFetching } = useGet<Comparison>(`/api/indexes/${name}/compare`);
  const small = useMediaQuery('(max-width: 700px)');
  return (
    <Dialog open onClose={close} fullWidth maxWidth="lg" fullScreen={small} aria-labelledby="compare-title">
      <DialogTitle id="compare-title" sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'center', gap: 1 }}>
        How the editions of {name} differ
        <IconButton onClick={close} aria-label="Close" size="small">✕</IconButton>
      </DialogTitle>
      <DialogContent>
        {isFetching && !data && <LinearProgress aria-label="Comparing" />}
        {error && <Notice color="error">{error.message}</Notice>}
        {data && <>
          <Typography variant="body2">
            {count(data.compared)} of {count(data.rows)} rows compared, spread over the keys: {count(data.same)} documents are the same, {count(data.differ)} differ
            {data.onlyOld > 0 && <>, {count(data.onlyOld)} are in {data.old} only</>}
            {data.onlyNew > 0 && <>, {count(data.onlyNew)} are in {data.new} only</>}.
          </Typography>
          {data.fields.length > 0 && (
            <Table size="small" sx={{ mt: 2, maxWidth: 620 }} aria-label="Fields that differ">
              <TableHead><TableRow><TableCell>Field</TableCell><TableCell align="right">Changed</TableCell><TableCell align="right">Added</TableCell><TableCell align="right">Gone</TableCell></TableRow></TableHead>
              <TableBody>{data.fields.map((f) => (
                <TableRow key={f.path}>
                  <TableCell sx={{ overflowWrap: 'anywhere' }}>{f.path}</TableCell>
                  <TableCell align="right">{count(f.changed)}</TableCell><TableCell align="right">{count(f.added)}</TableCell><TableCell align="right">{count(f.gone)}</TableCell>
                </TableRow>
              ))}</TableBody>
            </Table>
          )}
          <SideBySide name={name} editions={[data.old, data.new]} />
          {data.documents.slice(0, 8).map((d) => (
            <Box key={d.key} sx={{ mt: 2 }}>
              <Typography variant="body2" sx={{ fontWeight: 600 }}>{d.key}{d.only && ` is in the ${d.only} edition only`}</Typography>
              {d.fields.map((f) => (
                <Box key={f.path} sx={{ fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', fontSize: '0.78rem', lineHeight: 1.6, overflowWrap: 'anywhere' }}>
                  {f.old !== undefined && <Box sx={{ color: 'error.main' }}>− {f.path}: {short(f.old)}</Box>}
                  {f.new !== undefined && <Box sx={{ color: 'success.main' }}>+ {f.path}: {short(f.new)}</Box>}
                </Box>
              ))}
            </Box>
          ))}
        </>}
      </DialogContent>
    </Dialog>
  );
}

function short(v: unknown) {
  const text = JSON.stringify(v);
  return text.length > 160 ? `${text.slice(0, 160)}…` : text;
}

function SideBySide({ name, editions }: { name: string; editions: string[] }) {
  const [text, setText] = useState('');
  const [query, setQuery] = useState('');
  useEffect(() => {
    const timer = setTimeout(() => setQuery(text), 200);
    return () => clearTimeout(timer);
  }, [text]);
  return (
    <Box sx={{ mt: 3 }}>
      <TextField fullWidth size="small" label="Search both" value={text} onChange={(e) => setText(e.target.value)} />
      <Box sx={{ display: 'grid', gap: 2, mt: 1.5, gridTemplateColumns: { xs: 'minmax(0, 1fr)', sm: 'minmax(0, 1fr) minmax(0, 1fr)' } }}>
        {editions.map((edition, i) => <Found key={edition} name={name} edition={edition} role={i === 0 ? 'old' : 'new'} query={query} />)}
      </Box>
    </Box>
  );
}

function Found({ name, edition, role, query }: { name: string; edition: string; role: string; query: string }) {
  const { data, error } = useGet<Hits>(`/api/indexes/${name}/search?${new URLSearchParams({ q: query, limit: '8', edition })}`);
  return (
    <Box component="section" aria-label={`Found in ${edition}`}>
      <Typography variant="body2" sx={{ fontWeight: 600 }}>{edition} ({role}){data && `: ${count(data.total)} found`}</Typography>
      {error && <Notice color="error">{error.message}</Notice>}
      <Stack component="ol" sx={{ m: 0, mt: 0.5, pl: 2.5 }}>
        {data?.hits.map((h) => (
          <Typography key={h.key} component="li" variant="body2" sx={{ overflowWrap: 'anywhere' }}>
            {headline(h.document as Document)} <Box component="span" sx={{ color: 'text.secondary' }}>{h.key}</Box>
          </Typography>
        ))}
      </Stack>
    </Box>
  );
}

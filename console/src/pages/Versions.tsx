import { Box, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { diffLines } from 'diff';
import { useState } from 'react';
import { useGet, type DefinitionVersion } from '../api';
import { time } from '../format';
import { Notice } from '../parts/parts';

// Versions shows how a version of the definition differs from another.
export function Versions({ inForce }: { inForce: number }) {
  const { data, error } = useGet<DefinitionVersion[]>('/api/definition/versions', inForce);
  const [chosen, setChosen] = useState<{ from: number; to: number }>();
  if (error) return <Notice color="error">{error.message}</Notice>;
  if (!data) return null;
  const to = chosen?.to ?? inForce;
  const from = chosen?.from ?? Math.max(1, inForce - 1);
  const choice = (label: string, value: number, set: (n: number) => void) => (
    <TextField select size="small" label={label} value={value} onChange={(e) => set(Number(e.target.value))} sx={{ minWidth: { xs: '100%', sm: 300 } }}>
      {data.map((v) => <MenuItem key={v.version} value={v.version}>{v.version}, {time(v.appliedAt)}, {v.appliedBy}</MenuItem>)}
    </TextField>
  );
  return (
    <>
      <Stack direction="row" sx={{ gap: 1.5, mb: 2, flexWrap: 'wrap' }}>
        {choice('From version', from, (n) => setChosen({ from: n, to }))}
        {choice('To version', to, (n) => setChosen({ from, to: n }))}
      </Stack>
      {data.length === 1 ? <Typography variant="body2">Version 1 is the only one so far. The next pingo apply makes another, and its differences are shown here.</Typography> : <Difference from={from} to={to} />}
    </>
  );
}

function Difference({ from, to }: { from: number; to: number }) {
  const before = useGet<DefinitionVersion>(`/api/definition/versions/${from}`);
  const after = useGet<DefinitionVersion>(`/api/definition/versions/${to}`);
  const error = before.error ?? after.error;
  if (error) return <Notice color="error">{error.message}</Notice>;
  if (!before.data || !after.data) return null;
  const names = [...new Set([...(before.data.files ?? []), ...(after.data.files ?? [])].map((f) => f.name))];
  const text = (a: DefinitionVersion, name: string) => a.files?.find((f) => f.name === name)?.text ?? '';
  const changed = names.filter((n) => text(before.data!, n) !== text(after.data!, n));
  if (changed.length === 0) return <Typography variant="body2">These two say the same.</Typography>;
  return (
    <Stack sx={{ gap: 2.5 }}>
      {changed.map((name) => (
        <Box key={name} component="section" aria-label={`Differences in ${name}`}>
          <Typography variant="h2" sx={{ mb: 1 }}>{name}</Typography>
          <Box component="pre" tabIndex={0} sx={{ m: 0, py: 1, borderRadius: 1.5, overflow: 'auto', bgcolor: 'background.paper', border: 1, borderColor: 'divider', fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', fontSize: '0.8rem', lineHeight: 1.55 }}>
            {diffLines(text(before.data!, name), text(after.data!, name)).flatMap((part, i) => near(part).map((line, j) => (
              <Box key={`${i}.${j}`} sx={{ px: 1.5, ...(part.added && { bgcolor: 'success.main', color: 'background.paper' }), ...(part.removed && { bgcolor: 'error.main', color: 'background.paper' }) }}>
                {part.added ? '+ ' : part.removed ? '- ' : '  '}{line}
              </Box>
            )))}
          </Box>
        </Box>
      ))}
    </Stack>
  );
}

// near cuts what is the same on both sides down to the lines next to what is not.
function near(part: { value: string; added?: boolean; removed?: boolean }): string[] {
  const lines = part.value.replace(/\n$/, '').split('\n');
  if (part.added || part.removed || lines.length <= 9) return lines;
  return [...lines.slice(0, 4), `⋯ ${lines.length - 8} lines the same`, ...lines.slice(-4)];
}

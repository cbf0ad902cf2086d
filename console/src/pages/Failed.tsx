// The failed documents of all indexes, by cause.
import { Box, Link, Paper, Stack, Typography } from '@mui/material';
import { useState } from 'react';
import { Link as To, useNavigate } from 'react-router-dom';
import { useGet, useLive, type FailedGroup } from '../api';
import { count } from '../format';
import { Group } from '../parts/failed';
import { Empty, Notice } from '../parts/parts';

export function Failed() {
  const { status } = useLive();
  const go = useNavigate();
  const [again, setAgain] = useState(0);
  const failed = status?.indexes.reduce((n, i) => n + i.failed, 0) ?? 0;
  const { data, error } = useGet<FailedGroup[]>('/api/failed', `${failed}/${again}`, 5000);
  if (error && !data) return <Notice color="error">{error.message}</Notice>;
  if (!data) return null;
  if (data.length === 0) {
    return <Empty title="No document is failed"><Typography variant="body2">A document that cannot be built, or that an engine refuses, is kept here with the reason and what to do. <Link component={To} to="/">Back to the overview</Link></Typography></Empty>;
  }
  const indexes = [...new Set(data.map((g) => g.index))];
  return (
    <>
      <Typography variant="h1">{count(failed)} failed {failed === 1 ? 'document' : 'documents'} in {indexes.length === 1 ? indexes[0] : `${indexes.length} indexes`}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, mb: 3, maxWidth: '80ch' }}>They could not be built, or the engine refused them. Each is tried again when its row changes, and leaves this list when it is accepted. Nothing else waits for it.</Typography>
      <Stack sx={{ gap: 2.5 }}>
        {indexes.map((name) => (
          <Paper key={name} component="section" aria-label={`Failed documents of ${name}`} sx={{ p: { xs: 2, sm: 2.5 } }}>
            <Typography variant="h2" sx={{ mb: 1.5 }}><Link component={To} to={`/indexes/${name}`} color="inherit" underline="hover">{name}</Link></Typography>
            <Box sx={{ display: 'grid', gap: 2 }}>
              {data.filter((g) => g.index === name).map((g) => (
                <Group key={g.cause} name={name} group={g} again={again} treated={() => setAgain((n) => n + 1)} show={(key) => go(`/indexes/${name}/record?key=${encodeURIComponent(key)}`)} />
              ))}
            </Box>
          </Paper>
        ))}
      </Stack>
    </>
  );
}

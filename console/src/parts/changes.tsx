// The last changes of a source, as they come, and what became of each.
import { Box, Button, Paper, Typography } from '@mui/material';
import { useEffect, useState } from 'react';
import { useCall, type Followed } from '../api';
import { duration } from '../format';

export function Changes({ source }: { source: string }) {
  const [again, setAgain] = useState(0);
  const [held, setHeld] = useState(false);
  useEffect(() => {
    if (held) return;
    const timer = setInterval(() => setAgain((n) => n + 1), 1000);
    return () => clearInterval(timer);
  }, [held]);
  const { data, error } = useCall<Followed[]>(`/api/sources/${source}/changes`, again);
  return (
    <Paper component="section" aria-label={`Changes of ${source}`} sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'center', mb: 1 }}>
        <Typography variant="h2">Last changes of {source}</Typography>
        <Button size="small" onClick={() => setHeld(!held)}>{held ? 'Go on' : 'Hold'}</Button>
      </Box>
      {error && <Typography variant="body2" color="error">{error}</Typography>}
      {data?.length === 0 && <Typography variant="body2" sx={{ color: 'text.secondary' }}>None was noticed since the service began. Change a row, and it shows here.</Typography>}
      {data && data.length > 0 && (
        <Box sx={{ overflowX: 'auto', maxHeight: 360 }} tabIndex={0}>
          <Box component="table" sx={{ width: '100%', borderSpacing: 0, fontSize: '0.82rem', fontVariantNumeric: 'tabular-nums', '& th': { textAlign: 'left', color: 'text.secondary', fontWeight: 400, pb: 0.5 }, '& td, & th': { pr: 2, py: 0.4, whiteSpace: 'nowrap' }, '& td': { borderTop: 1, borderColor: 'divider' } }}>
            <thead><tr><th>written at</th><th>change</th><th>row</th><th>documents</th><th>lag</th></tr></thead>
            <tbody>
              {data.slice(0, 30).map((c, i) => (
                <tr key={`${c.at}${c.table}${c.key}${i}`}>
                  <td>{new Date(c.at).toLocaleTimeString('en-GB')}</td>
                  <td>{c.op}</td>
                  <td>{c.table} {c.key}</td>
                  <Box component="td" sx={{ color: c.refused ? 'error.main' : undefined }}>{c.words}</Box>
                  <td>{c.lagMs == null ? 'on its way' : duration(c.lagMs)}</td>
                </tr>
              ))}
            </tbody>
          </Box>
        </Box>
      )}
    </Paper>
  );
}

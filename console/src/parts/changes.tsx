// The last changes of a source as they arrive, with the outcome of each.
import { Box, Button, Paper, Typography } from '@mui/material';
import { useState } from 'react';
import { useGet, type RecentChange } from '../api';
import { duration } from '../format';

export function Changes({ source }: { source: string }) {
  const [held, setHeld] = useState(false);
  const { data, error } = useGet<RecentChange[]>(`/api/sources/${source}/changes`, 0, held ? false : 1000);
  return (
    <Paper component="section" aria-label={`Changes of ${source}`} sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'center', mb: 1 }}>
        <Typography variant="h2">Recent changes of {source}</Typography>
        <Button size="small" onClick={() => setHeld(!held)}>{held ? 'Resume' : 'Pause'}</Button>
      </Box>
      {error && <Typography variant="body2" color="error">{error.message}</Typography>}
      {data?.length === 0 && <Typography variant="body2" sx={{ color: 'text.secondary' }}>No change was noticed since the process started. Change a row, and it shows here.</Typography>}
      {data && data.length > 0 && (
        <Box sx={{ overflowX: 'auto', maxHeight: 360 }} tabIndex={0}>
          <Box component="table" sx={{ width: '100%', borderSpacing: 0, fontSize: '0.82rem', fontVariantNumeric: 'tabular-nums', '& th': { textAlign: 'left', color: 'text.secondary', fontWeight: 400, pb: 0.5 }, '& td, & th': { pr: 2, py: 0.4, whiteSpace: 'nowrap' }, '& td': { borderTop: 1, borderColor: 'divider' } }}>
            <thead><tr><th>at</th><th>change</th><th>row</th><th>documents</th><th>lag</th></tr></thead>
            <tbody>
              {data.slice(0, 30).map((c, i) => (
                <tr key={`${c.at}${c.table}${c.key}${i}`}>
                  <td>{new Date(c.at).toLocaleTimeString('en-GB')}</td>
                  <td>{c.op}</td>
                  <td>{c.table} {c.key}</td>
                  <Box component="td" sx={{ color: c.refused ? 'error.main' : undefined }}>{c.result}</Box>
                  <td>{c.lagMs == null ? 'pending' : duration(c.lagMs)}</td>
                </tr>
              ))}
            </tbody>
          </Box>
        </Box>
      )}
    </Paper>
  );
}

// How an index was over the last minutes to a month.
import { Box, Paper, ToggleButton, ToggleButtonGroup, Typography } from '@mui/material';
import { LineChart } from '@mui/x-charts/LineChart';
import { useState } from 'react';
import { useGet, type HistoryPoint } from '../api';
import { duration, rate } from '../format';

const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' });
const seconds = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' });
const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' });
const spans = { '15 min': 15, '1 h': 60, '24 h': 1440, '7 d': 10_080, '31 d': 44_640 };

export function History({ name }: { name: string }) {
  const [minutes, setMinutes] = useState(60);
  const { data } = useGet<HistoryPoint[]>(`/api/indexes/${name}/history?minutes=${minutes}`, 0, 10_000);
  const points = data ?? [];
  return (
    <Paper component="section" aria-label="History" sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'center', justifyContent: 'space-between' }}>
        <Typography variant="h2">History</Typography>
        <ToggleButtonGroup size="small" exclusive value={minutes} onChange={(_, v) => v && setMinutes(v)} aria-label="How long back">
          {Object.entries(spans).map(([words, n]) => <ToggleButton key={n} value={n} sx={{ textTransform: 'none', py: 0.25 }}>{words}</ToggleButton>)}
        </ToggleButtonGroup>
      </Box>
      {data && points.length < 2 ? (
        <Typography variant="body2" sx={{ color: 'text.secondary', mt: 1 }}>{minutes <= 60 ? 'A point is added every ten seconds. The first lines appear in less than a minute.' : minutes <= 1440 ? 'A point is added every minute.' : 'A point is added every quarter of an hour.'}</Typography>
      ) : points.length > 1 && (
        <Box sx={{ display: 'grid', gap: 2, mt: 1, gridTemplateColumns: 'minmax(0, 1fr)' }}>
          <Plot title="Lag" points={points} format={duration} series={[
            { label: '50%', of: (m) => m.lag.p50, color: 'var(--mui-palette-primary-main)' },
            { label: '95%', of: (m) => m.lag.p95, color: 'var(--mui-palette-success-main)' },
            { label: '99%', of: (m) => m.lag.p99, color: 'var(--mui-palette-warning-main)' },
            { label: 'oldest waiting', of: (m) => m.oldestMs, color: 'var(--mui-palette-error-main)' },
          ]} />
          <Plot title="Documents a second" points={points} format={rate} series={[
            { label: 'delivered', of: (m) => m.delivered, color: 'var(--mui-palette-primary-main)' },
            { label: 'unchanged, not sent', of: (m) => m.unchanged, color: 'var(--mui-palette-success-main)' },
            { label: 'refused', of: (m) => m.refused, color: 'var(--mui-palette-error-main)' },
          ]} />
        </Box>
      )}
    </Paper>
  );
}

interface Series { label: string; of: (m: HistoryPoint) => number; color: string }

function Plot({ title, points, series, format }: { title: string; points: HistoryPoint[]; series: Series[]; format: (n: number) => string }) {
  const last = points[points.length - 1];
  const span = new Date(last.at).getTime() - new Date(points[0].at).getTime();
  return (
    <Box role="img" aria-label={`${title}: ${series.map((s) => `${s.label} ${format(s.of(last))} now`).join(', ')}`}>
      <Typography variant="body2" sx={{ fontWeight: 600 }}>{title}</Typography>
      <LineChart height={190} skipAnimation grid={{ horizontal: true }} margin={{ left: 4, right: 24, top: 8, bottom: 4 }}
        xAxis={[{ data: points.map((m) => new Date(m.at)), scaleType: 'time', tickNumber: 4, valueFormatter: (d: Date) => (span > 86_400_000 * 1.5 ? day : span < 600_000 ? seconds : clock).format(d) }]}
        yAxis={[{ min: 0, width: 84, tickNumber: 4, valueFormatter: (n: number) => format(n).replace(' 0 s', '').replace('.0', '') }]}
        series={series.map((s) => ({ data: points.map(s.of), label: s.label, color: s.color, showMark: false, curve: 'linear' as const, valueFormatter: (n: number | null) => format(n ?? 0) }))}
        slotProps={{ legend: { sx: { fontSize: '0.75rem', gap: 1 } } }} />
    </Box>
  );
}

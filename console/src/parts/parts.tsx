// Small parts that several pages are made of.
import { Box, Paper, Stack, Typography } from '@mui/material';
import { SparkLineChart } from '@mui/x-charts/SparkLineChart';
import type { ReactNode } from 'react';
import type { State } from '../api';
import { looks } from '../theme';

// StateMark is amber where all is in sync but some documents failed.
export function StateMark({ state, failed = false, size = 22 }: { state: State; failed?: boolean; size?: number }) {
  const look = failed && state === 'in sync' ? { ...looks.waiting, sign: '!' } : looks[state];
  return (
    <Box component="span" aria-hidden sx={{
      width: size, height: size, borderRadius: '50%', flexShrink: 0, display: 'inline-grid', placeItems: 'center',
      bgcolor: `${look.color}.main`, color: 'background.paper', fontSize: size * 0.58, fontWeight: 700, lineHeight: 1,
    }}>{look.sign}</Box>
  );
}

export function StateWord({ state }: { state: State }) {
  const look = looks[state];
  return <Typography component="span" variant="body2" sx={{ color: `${look.color}.main`, fontWeight: 600 }}>{look.word}</Typography>;
}

export function Figure({ label, value, note, color }: { label: string; value: ReactNode; note?: ReactNode; color?: string }) {
  return (
    <Box sx={{ minWidth: 92 }}>
      <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.78rem' }}>{label}</Typography>
      <Typography sx={{ fontSize: '1.3rem', fontWeight: 600, lineHeight: 1.25, color }}>{value}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', fontSize: '0.75rem', minHeight: '1.1em', maxWidth: '20ch' }}>{note}</Typography>
    </Box>
  );
}

// Spark draws the last minute, a point a second.
export function Spark({ data, label, color = 'var(--mui-palette-primary-main)' }: { data: number[]; label: string; color?: string }) {
  return (
    <Box role="img" aria-label={label} sx={{ height: 48, ml: -0.6, '& .MuiAreaElement-root, & .MuiLineChart-area': { opacity: 0.22 } }}>
      <SparkLineChart data={data} height={48} area color={color} curve="linear" yAxis={{ min: 0, max: Math.max(1, ...data) }} skipAnimation />
    </Box>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Paper sx={{ p: { xs: 2.5, sm: 4 } }}>
      <Typography variant="h2" gutterBottom>{title}</Typography>
      {children}
    </Paper>
  );
}

export function Code({ children }: { children: ReactNode }) {
  return (
    <Box component="pre" tabIndex={0} sx={{
      m: 0, p: 1.5, borderRadius: 1.5, overflow: 'auto', bgcolor: 'background.default', border: 1, borderColor: 'divider',
      fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', fontSize: '0.8rem', lineHeight: 1.55,
    }}>{children}</Box>
  );
}

export function Notice({ color, children }: { color: 'error' | 'warning' | 'info'; children: ReactNode }) {
  return (
    <Stack role="alert" direction="row" sx={{ gap: 1.5, p: 1.5, mb: 2, borderRadius: 1.5, border: 1, borderColor: `${color}.main`, bgcolor: 'background.paper' }}>
      <StateMark state={color === 'error' ? 'blocked' : 'waiting'} />
      <Typography variant="body2">{children}</Typography>
    </Stack>
  );
}

import { Box, Stack, Tab, Tabs, Typography } from '@mui/material';
import { useSearchParams } from 'react-router-dom';
import { useGet, useLive, useMay, type DefinitionVersion, type Plan } from '../api';
import { time } from '../format';
import { Code, Empty, Notice } from '../parts/parts';
import { IndexPlanView } from '../parts/plan';
import { Draft } from './Draft';
import { Versions } from './Versions';

const views = [['shape', 'Documents'], ['text', 'Edit'], ['versions', 'Versions']] as const;

export function Definition() {
  const admin = useMay('admin');
  const version = useLive().status?.definitionVersion;
  const { data, error } = useGet<DefinitionVersion>('/api/definition', version);
  const [params, setParams] = useSearchParams();
  const view = params.get('view') ?? 'shape';
  if (error && !data) return <Empty title="No definition is in force"><Typography variant="body2">{error.message}</Typography></Empty>;
  if (!data) return null;
  return (
    <>
      <Typography variant="h1">Definition version {data.version}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5 }}>Applied {time(data.appliedAt)} with the token {data.appliedBy}.</Typography>
      <Tabs value={view} onChange={(_, v) => setParams({ view: v })} aria-label="Views of the definition" variant="scrollable" sx={{ mt: 1, mb: 2.5, borderBottom: 1, borderColor: 'divider' }}>
        {views.map(([id, name]) => <Tab key={id} value={id} label={name} />)}
      </Tabs>
      {view === 'shape' && <Shapes version={data.version} />}
      {view === 'text' && (admin ? <Draft key={data.version} applied={data} /> : <Written applied={data} />)}
      {view === 'versions' && <Versions inForce={data.version} />}
    </>
  );
}

// Shapes shows the tables and fields of every index, and documents built from real rows.
function Shapes({ version }: { version: number }) {
  const { data, error, isLoading } = useGet<Plan>('/api/definition/plan', version);
  if (error) return <Notice color="error">{error.message}</Notice>;
  if (!data) return isLoading ? <Typography variant="body2">Asking the sources …</Typography> : null;
  return (
    <Stack sx={{ gap: 2.5 }}>
      {data.findings.length > 0 && <Notice color="error">The current definition no longer fits the source: {data.findings[0].message} — {data.findings[0].suggestion}</Notice>}
      {data.indexes.map((ix) => <IndexPlanView key={ix.name} plan={ix} />)}
    </Stack>
  );
}

function Written({ applied }: { applied: DefinitionVersion }) {
  return (
    <Stack sx={{ gap: 3 }}>
      {applied.files?.map((f) => (
        <Box key={f.name} component="section" aria-label={f.name}>
          <Typography variant="h2" sx={{ mb: 1 }}>{f.name}</Typography>
          <Code>{f.text}</Code>
        </Box>
      ))}
    </Stack>
  );
}

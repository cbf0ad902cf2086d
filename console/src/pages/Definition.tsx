import { Box, Stack, Typography } from '@mui/material';
import { useCall, useLive, type Applied } from '../api';
import { time } from '../format';
import { Code, Empty } from '../parts/parts';

export function Definition() {
  const version = useLive().status?.definitionVersion;
  const { data, error } = useCall<Applied>('/api/definition', version);
  if (error && !data) return <Empty title="No definition is in force"><Typography variant="body2">{error}</Typography></Empty>;
  if (!data) return null;
  return (
    <>
      <Typography variant="h1">Definition version {data.version}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, mb: 3 }}>
        Applied {time(data.appliedAt)} with the token {data.appliedBy}. Secrets are kept as references, as written here. To change it, edit your file, then pingo check and pingo apply.
      </Typography>
      <Stack sx={{ gap: 3 }}>
        {data.files.map((f) => (
          <Box key={f.name} component="section" aria-label={f.name}>
            <Typography variant="h2" sx={{ mb: 1 }}>{f.name}</Typography>
            <Code>{f.text}</Code>
          </Box>
        ))}
      </Stack>
    </>
  );
}

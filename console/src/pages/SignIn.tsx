import { Box, Button, Paper, Stack, TextField, Typography } from '@mui/material';
import { useState, type FormEvent } from 'react';
import { post, type Session } from '../api';

export function SignIn({ done }: { done: (session: Session) => void }) {
  const [token, setToken] = useState('');
  const [error, setError] = useState('');
  const submit = (e: FormEvent) => {
    e.preventDefault();
    post<Session>('/api/session', { token }).then(done).catch((p) => setError(p.message));
  };
  return (
    <Box component="main" sx={{ display: 'grid', placeItems: 'center', minHeight: '100vh', p: 2 }}>
      <Paper component="form" onSubmit={submit} sx={{ p: 4, width: '100%', maxWidth: 420 }}>
        <Stack sx={{ gap: 2 }}>
          <Stack direction="row" sx={{ gap: 1.25, alignItems: 'center' }}>
            <img src="/icon.svg" alt="" width={32} height={32} />
            <Typography variant="h1">Sign in to Pingo</Typography>
          </Stack>
          <TextField label="Token" type="password" autoFocus autoComplete="current-password" value={token} onChange={(e) => setToken(e.target.value)} error={error !== ''}
            helperText={error || 'pingo serve prints the first one; pingo token create makes more'} />
          <Button type="submit" variant="contained" disableElevation disabled={token === ''}>Sign in</Button>
        </Stack>
      </Paper>
    </Box>
  );
}

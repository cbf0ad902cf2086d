import { Box, Button, CircularProgress, Container, IconButton, Link, Stack, Tooltip, Typography } from '@mui/material';
import { useColorScheme } from '@mui/material/styles';
import { useCallback, useEffect, useState } from 'react';
import { NavLink, Route, Routes } from 'react-router-dom';
import { call, LiveContext, queryClient, SessionContext, useEvents, type Session } from './api';
import { Access } from './pages/Access';
import { Definition } from './pages/Definition';
import { Failed } from './pages/Failed';
import { IndexPage } from './pages/IndexPage';
import { NotFound } from './pages/NotFound';
import { Overview } from './pages/Overview';
import { SignIn } from './pages/SignIn';
import { SourcePage } from './pages/SourcePage';

export function App() {
  const [caller, setCaller] = useState<Session | null | undefined>(undefined);
  useEffect(() => {
    // A link may carry a token behind #, which never reaches a server's log.
    const token = new URLSearchParams(window.location.hash.slice(1)).get('token');
    if (token) window.history.replaceState(null, '', window.location.pathname + window.location.search);
    const who = token
      ? call<Session>('/api/session', { method: 'POST', body: JSON.stringify({ token }) })
      : call<Session>('/api/session');
    who.then(setCaller).catch(() => setCaller(null));
  }, []);
  if (caller === undefined) return <Box sx={{ display: 'grid', placeItems: 'center', height: '100vh' }}><CircularProgress aria-label="Loading" /></Box>;
  if (caller === null) return <SignIn done={setCaller} />;
  return <Shell caller={caller} leave={setCaller} />;
}

function Shell({ caller, leave }: { caller: Session; leave: (c: null) => void }) {
  const signedOut = useCallback(() => leave(null), [leave]);
  const live = useEvents(signedOut);
  const signOut = () => call('/api/session', { method: 'DELETE' }).finally(() => { queryClient.clear(); signedOut(); });
  return (
    <SessionContext.Provider value={caller}><LiveContext.Provider value={live}>
      <Link href="#main" sx={{ position: 'absolute', left: -9999, '&:focus': { left: 8, top: 8, zIndex: 9 } }}>Skip to the content</Link>
      <Box component="header" sx={{ borderBottom: 1, borderColor: 'divider', bgcolor: 'background.paper' }}>
        <Container maxWidth="lg">
          <Stack direction="row" sx={{ alignItems: 'center', gap: { xs: 0.75, sm: 3 }, height: 56 }}>
            <Stack direction="row" sx={{ alignItems: 'center', gap: 1 }}>
              <Box component="img" src="/icon.svg" alt="" sx={{ width: 26, height: 26, display: { xs: caller.role === 'admin' ? 'none' : 'block', sm: 'block' } }} />
              <Typography component="span" sx={{ fontWeight: 700, letterSpacing: '-0.02em', display: { xs: 'none', sm: 'inline' } }}>Pingo</Typography>
            </Stack>
            <Stack component="nav" aria-label="Pages" direction="row" sx={{ gap: { xs: 1.25, sm: 2.5 }, flexGrow: 1, '& a': { color: 'text.secondary', textDecoration: 'none', fontSize: { xs: '0.82rem', sm: '0.9rem' }, py: 1 }, '& a.active': { color: 'text.primary', fontWeight: 600 } }}>
              <NavLink to="/" end>Overview</NavLink>
              <NavLink to="/failed">Failed</NavLink>
              <NavLink to="/definition">Definition</NavLink>
              {caller.role === 'admin' && <NavLink to="/access">Access</NavLink>}
            </Stack>
            <SchemeButton />
            <Tooltip title={`Signed in with the token ${caller.name} (${caller.role})`}>
              <Button size="small" color="inherit" onClick={signOut} sx={{ flexShrink: 0, whiteSpace: 'nowrap' }}>Sign out</Button>
            </Tooltip>
          </Stack>
        </Container>
      </Box>
      <Container component="main" id="main" tabIndex={-1} maxWidth="lg" sx={{ py: { xs: 2, sm: 3 }, outline: 'none' }}>
        <Routes>
          <Route path="/" element={<Overview />} />
          <Route path="/indexes/:name/:tab?" element={<IndexPage />} />
          <Route path="/sources/:name" element={<SourcePage />} />
          <Route path="/definition" element={<Definition />} />
          <Route path="/failed" element={<Failed />} />
          <Route path="/access" element={<Access />} />
          <Route path="*" element={<NotFound />} />
        </Routes>
      </Container>
    </LiveContext.Provider></SessionContext.Provider>
  );
}

function SchemeButton() {
  const { mode, systemMode, setMode } = useColorScheme();
  const dark = (mode === 'system' ? systemMode : mode) === 'dark';
  return (
    <Tooltip title={dark ? 'Light colours' : 'Dark colours'}>
      <IconButton size="small" aria-label={dark ? 'Light colours' : 'Dark colours'} onClick={() => setMode(dark ? 'light' : 'dark')}>
        <Box component="span" sx={{ fontSize: 18, width: 24, lineHeight: '24px' }}>{dark ? '☀' : '☾'}</Box>
      </IconButton>
    </Tooltip>
  );
}

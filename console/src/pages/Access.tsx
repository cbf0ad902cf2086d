// Access to the service: tokens, and the sessions that use them.
import { Box, Button, Dialog, DialogActions, DialogContent, DialogContentText, DialogTitle, MenuItem, Paper, Stack, Table, TableBody, TableCell, TableContainer, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useState, type FormEvent, type ReactNode } from 'react';
import { call, post, useGet, useMay, type CreatedToken, type OpenSession, type Token } from '../api';
import { time } from '../format';
import { Code, Empty, Notice } from '../parts/parts';

const roles = { viewer: 'viewer: sees everything', operator: 'operator: also rebuilds, repairs and retries', admin: 'admin: also changes definitions, capture and tokens' };

export function Access() {
  const may = useMay('admin');
  if (!may) return <Empty title="Access is for admins"><Typography variant="body2">Sign in with a token of the role admin to see and change who may use this service.</Typography></Empty>;
  return <AccessOfAll />;
}

function AccessOfAll() {
  const [again, setAgain] = useState(0);
  const [error, setError] = useState('');
  const [removing, setRemoving] = useState<Token>();
  const tokens = useGet<Token[]>('/api/tokens', again, 10_000);
  const sessions = useGet<OpenSession[]>('/api/sessions', again, 10_000);
  const changed = () => setAgain((n) => n + 1);
  const remove = (path: string) => call(path, { method: 'DELETE' }).then(() => setError('')).catch((e) => setError(e.message)).finally(changed);
  const failed = error || tokens.error?.message || sessions.error?.message;
  return (
    <>
      <Typography variant="h1" sx={{ mb: 2 }}>Access</Typography>
      {failed && <Notice color="error">{failed}</Notice>}
      <Section title="Tokens" note="Commands, dashboards and scripts use one each. Only a hash of a token is kept.">
        <NewToken made={changed} />
        <Rows label="Tokens" head={['Name', 'Role', 'Made', 'Last used', 'Expires', '']} empty="" rows={tokens.data?.map((t) => ({
          key: t.name,
          cells: [t.name, t.role, time(t.createdAt), t.usedAt ? time(t.usedAt) : 'never', expiry(t.expiresAt),
            <Button key="remove" size="small" color="error" aria-label={`Remove token ${t.name}`} onClick={() => setRemoving(t)}>Remove</Button>],
        }))} />
      </Section>
      <Section title="Signed in" note="A session of this console ends after twelve hours, after half an hour without use, and with its token.">
        <Rows label="Sessions" head={['Token', 'Role', 'Began', 'Last used', 'Ends', '']} empty="No one is signed in to the console." rows={sessions.data?.map((s) => ({
          key: String(s.id),
          cells: [s.own ? `${s.token} (you)` : s.token, s.role, time(s.beganAt), time(s.usedAt), time(s.endsAt),
            <Button key="end" size="small" color="inherit" aria-label={`Sign out session ${s.id} of ${s.token}`} onClick={() => remove(`/api/sessions/${s.id}`)}>Sign out</Button>],
        }))} />
      </Section>
      <Dialog open={removing !== undefined} onClose={() => setRemoving(undefined)}>
        <DialogTitle>Remove token {removing?.name}?</DialogTitle>
        <DialogContent><DialogContentText>Whoever uses it is refused from then on, and sessions that began with it end. It cannot be brought back.</DialogContentText></DialogContent>
        <DialogActions>
          <Button color="inherit" onClick={() => setRemoving(undefined)}>Keep it</Button>
          <Button color="error" onClick={() => { remove(`/api/tokens/${encodeURIComponent(removing!.name)}`); setRemoving(undefined); }}>Remove</Button>
        </DialogActions>
      </Dialog>
    </>
  );
}

const expiry = (at?: string) => (!at ? 'never' : new Date(at) < new Date() ? `expired ${time(at)}` : time(at));

function Section({ title, note, children }: { title: string; note: string; children: ReactNode }) {
  return (
    <Paper component="section" aria-label={title} sx={{ p: { xs: 2, sm: 2.5 }, mb: 2.5 }}>
      <Typography variant="h2">{title}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', mt: 0.5, mb: 2 }}>{note}</Typography>
      {children}
    </Paper>
  );
}

function Rows({ label, head, rows, empty }: { label: string; head: string[]; rows?: { key: string; cells: ReactNode[] }[]; empty: string }) {
  if (!rows) return null;
  // A phone has no room for when things began and were used.
  const room = (i: number) => ({ display: { xs: ['Made', 'Began', 'Last used'].includes(head[i]) ? 'none' : 'table-cell', sm: 'table-cell' } });
  if (rows.length === 0) return <Typography variant="body2">{empty}</Typography>;
  return (
    <TableContainer>
      <Table size="small" aria-label={label} sx={{ '& td, & th': { px: 1, whiteSpace: { sm: 'nowrap' } }, '& tr:last-child td': { border: 0 } }}>
        <TableHead><TableRow>{head.map((h, i) => <TableCell key={h} sx={room(i)}>{h}</TableCell>)}</TableRow></TableHead>
        <TableBody>
          {rows.map((r) => <TableRow key={r.key}>{r.cells.map((c, i) => <TableCell key={head[i]} sx={room(i)} align={i === head.length - 1 ? 'right' : 'left'}>{c}</TableCell>)}</TableRow>)}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

// NewToken makes a token, and shows it once.
function NewToken({ made }: { made: () => void }) {
  const [name, setName] = useState('');
  const [role, setRole] = useState<keyof typeof roles>('viewer');
  const [days, setDays] = useState('90');
  const [created, setCreated] = useState<CreatedToken>();
  const [error, setError] = useState('');
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const n = Number(days);
    const expiresAt = n > 0 ? new Date(Date.now() + n * 86_400_000).toISOString() : undefined;
    post<CreatedToken>('/api/tokens', { name, role, expiresAt }).then((t) => { setCreated(t); setName(''); setError(''); made(); }).catch((p) => setError(p.message));
  };
  return (
    <Box sx={{ mb: 2 }}>
      <Stack component="form" onSubmit={submit} direction={{ xs: 'column', sm: 'row' }} sx={{ gap: 1.5, alignItems: { sm: 'flex-start' } }}>
        <TextField size="small" label="Name" value={name} onChange={(e) => setName(e.target.value)} sx={{ width: { sm: 220 } }} />
        <TextField size="small" select label="Role" value={role} onChange={(e) => setRole(e.target.value as keyof typeof roles)} sx={{ width: { sm: 330 } }}>
          {Object.entries(roles).map(([r, words]) => <MenuItem key={r} value={r}>{words}</MenuItem>)}
        </TextField>
        <TextField size="small" label="Expires after days" type="number" value={days} onChange={(e) => setDays(e.target.value)} helperText={Number(days) > 0 ? '' : 'empty: never'} slotProps={{ htmlInput: { min: 0, max: 3650 } }} sx={{ width: { sm: 150 } }} />
        <Button type="submit" variant="contained" disableElevation disabled={name === ''} sx={{ height: 40 }}>Make a token</Button>
      </Stack>
      {error && <Box sx={{ mt: 1.5 }}><Notice color="error">{error}</Notice></Box>}
      {created && (
        <Box role="status" sx={{ mt: 2 }}>
          <Typography variant="body2" sx={{ mb: 1 }}>This is token {created.name}. It is shown this once: copy it to where it is needed.</Typography>
          <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
            <Code>{created.token}</Code>
            <Button size="small" variant="outlined" onClick={() => navigator.clipboard.writeText(created.token)}>Copy</Button>
            <Button size="small" color="inherit" onClick={() => setCreated(undefined)}>Done</Button>
          </Stack>
        </Box>
      )}
    </Box>
  );
}

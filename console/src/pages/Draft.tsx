import { Box, Button, Link, Paper, Stack, Typography } from '@mui/material';
import { useRef, useState } from 'react';
import { post, type DefinitionVersion, type Finding, type Plan } from '../api';
import { Notice, StateMark } from '../parts/parts';
import { IndexPlanView } from '../parts/plan';

// Draft lets a person change the definition and see what applying it would do. It
// applies nothing: that is for pingo apply, with the file under version control.
export function Draft({ applied }: { applied: DefinitionVersion }) {
  const [files, setFiles] = useState(applied.files ?? []);
  const [plan, setPlan] = useState<Plan>();
  const [error, setError] = useState('');
  const [asking, setAsking] = useState(false);
  const areas = useRef<Record<string, HTMLTextAreaElement | null>>({});
  const changed = files.some((f, i) => f.text !== applied.files![i].text);

  const check = () => {
    setAsking(true);
    setError('');
    post<Plan>('/api/definition/check', { files })
      .then(setPlan).catch((e) => setError(e.message)).finally(() => setAsking(false));
  };
  const edit = (name: string, text: string) => {
    setFiles(files.map((f) => (f.name === name ? { ...f, text } : f)));
    setPlan(undefined);
  };
  const goTo = (f: Finding) => {
    const area = areas.current[f.at.file];
    if (!area) return;
    const lines = area.value.split('\n');
    const start = lines.slice(0, f.at.line - 1).join('\n').length + (f.at.line > 1 ? 1 : 0);
    area.focus();
    area.setSelectionRange(start + f.at.column - 1, start + (lines[f.at.line - 1]?.length ?? 0));
  };
  return (
    <>
      <Typography variant="body2" sx={{ color: 'text.secondary', mb: 2, maxWidth: '80ch' }}>
        Change the text here and check what would happen. This page applies nothing: put the change into your file, and run pingo apply. Secrets stay references, as written.
      </Typography>
      <Stack sx={{ gap: 2.5 }}>
        {files.map((f) => (
          <Box key={f.name} component="section" aria-label={f.name}>
            <Typography variant="h2" sx={{ mb: 1 }}>{f.name}</Typography>
            <Editor name={f.name} text={f.text} findings={plan?.findings.filter((x) => x.at.file === f.name) ?? []}
              area={(a) => { areas.current[f.name] = a; }} edit={(text) => edit(f.name, text)} />
          </Box>
        ))}
      </Stack>
      <Stack direction="row" sx={{ gap: 1.5, my: 2.5, alignItems: 'center', position: 'sticky', bottom: 0, py: 1.5, bgcolor: 'background.default' }}>
        <Button variant="contained" onClick={check} disabled={asking}>{asking ? 'Checking …' : 'Check'}</Button>
        {changed && <Button onClick={() => { setFiles(applied.files!); setPlan(undefined); }}>Back to version {applied.version}</Button>}
        {plan && <Typography variant="body2" role="status">{verdict(plan)}</Typography>}
      </Stack>
      {error && <Notice color="error">{error}</Notice>}
      {plan && plan.findings.length > 0 && (
        <Paper component="section" aria-label="Findings" sx={{ p: 2, mb: 2.5, borderColor: 'error.main' }}>
          <Stack sx={{ gap: 1.25 }}>
            {plan.findings.map((f, i) => (
              <Stack key={i} direction="row" sx={{ gap: 1.25 }}>
                <StateMark state="blocked" size={18} />
                <Typography variant="body2" sx={{ overflowWrap: 'anywhere' }}>
                  <Link component="button" onClick={() => goTo(f)}>{f.at.file}:{f.at.line}:{f.at.column}</Link> {f.message}
                  {f.suggestion && <Box component="span" sx={{ color: 'text.secondary' }}> — {f.suggestion}</Box>}
                </Typography>
              </Stack>
            ))}
          </Stack>
        </Paper>
      )}
      {plan && <Stack sx={{ gap: 2.5 }}>
        {[...plan.sources, ...plan.engines].filter((a) => !a.answers || a.missing?.length).map((a) => <Notice key={a.name} color="error">{a.name}: {a.answers ? `rights are missing: ${a.missing!.join(' ')}` : a.message}</Notice>)}
        {plan.capture.flatMap((c) => c.advice.filter((a) => a.statement)).map((a) => <Notice key={a.message + a.table} color="warning">{a.table}: {a.message}. {a.statement}</Notice>)}
        {plan.indexes.map((ix) => <IndexPlanView key={ix.name} plan={ix} changes />)}
      </Stack>}
    </>
  );
}

function verdict(p: Plan): string {
  if (p.findings.length > 0) return `${p.findings.length === 1 ? 'There is one mistake' : `There are ${p.findings.length} mistakes`} in it.`;
  if ([...p.sources, ...p.engines].some((a) => !a.answers || a.missing?.length)) return 'It cannot be applied yet.';
  const touched = p.indexes.filter((ix) => ix.change !== 'unchanged');
  if (touched.length === 0) return 'It would change nothing.';
  return touched.map((ix) => `${ix.name}: ${ix.change}`).join(', ');
}

const mono = { fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', fontSize: '0.8rem', lineHeight: '1.3rem' };

// Editor is a text with numbered lines, those with findings marked.
function Editor({ name, text, findings, area, edit }: { name: string; text: string; findings: Finding[]; area: (a: HTMLTextAreaElement | null) => void; edit: (text: string) => void }) {
  const lines = text.split('\n').length;
  const wrong = new Map(findings.map((f) => [f.at.line, f.message]));
  return (
    <Stack direction="row" sx={{ border: 1, borderColor: findings.length ? 'error.main' : 'divider', borderRadius: 1.5, overflow: 'hidden', bgcolor: 'background.paper', '&:focus-within': { outline: '2px solid', outlineColor: 'primary.main' } }}>
      <Box aria-hidden sx={{ ...mono, py: 1, textAlign: 'right', color: 'text.secondary', bgcolor: 'background.default', flexShrink: 0, userSelect: 'none' }}>
        {Array.from({ length: lines }, (_, i) => (
          <Box key={i} title={wrong.get(i + 1)} sx={{ px: 1, ...(wrong.has(i + 1) && { bgcolor: 'error.main', color: 'background.paper', fontWeight: 700 }) }}>{i + 1}</Box>
        ))}
      </Box>
      <Box component="textarea" ref={area} aria-label={`Text of ${name}`} aria-invalid={findings.length > 0} value={text} rows={lines} wrap="off" spellCheck={false}
        onChange={(e: React.ChangeEvent<HTMLTextAreaElement>) => edit(e.target.value)}
        sx={{ ...mono, flexGrow: 1, minWidth: 0, border: 0, outline: 0, p: 1, resize: 'none', color: 'text.primary', bgcolor: 'transparent', overflowX: 'auto', overflowY: 'hidden', whiteSpace: 'pre' }} />
    </Stack>
  );
}

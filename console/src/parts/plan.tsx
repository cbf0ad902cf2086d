// What a definition makes of an index: its tables and fields, what would happen to it,
// and documents built from real rows.
import { Box, Chip, Paper, Stack, Typography } from '@mui/material';
import type { IndexPlan, PlanField, PlanNode } from '../api';
import { bytes, count } from '../format';
import { Code, Notice, StateMark } from './parts';

const words: Record<IndexPlan['change'], string> = {
  new: 'New: Pingo fills a first edition and then makes it live.',
  unchanged: 'Unchanged.',
  'in place': 'Changed in place, effective immediately.',
  reindex: 'Reindex: Pingo fills a new edition and then switches to it.',
  removed: 'Removed from the definition: Pingo stops updating it.',
};

export function IndexPlanView({ plan, changes = false }: { plan: IndexPlan; changes?: boolean }) {
  const roots = plan.nodes.filter((n) => n.kind === 'root');
  return (
    <Paper component="section" aria-label={`Index ${plan.name}`} sx={{ p: { xs: 2, sm: 2.5 } }}>
      <Stack direction="row" sx={{ alignItems: 'baseline', gap: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h2">{plan.name}</Typography>
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          in {plan.engine}{plan.change !== 'removed' && `, ${count(plan.rows)} rows${plan.bytes ? `, about ${bytes(plan.bytes)} of documents` : ''}`}
        </Typography>
      </Stack>
      {changes && (
        <Box sx={{ mt: 1 }}>
          <Typography variant="body2" sx={{ fontWeight: 600 }}>{words[plan.change]}{plan.operations > 0 && ` ${count(plan.operations)} documents to send.`}</Typography>
          <Stack component="ul" sx={{ m: 0, mt: 0.5, pl: 2.5 }}>
            {plan.differences.map((d, i) => (
              <Typography key={i} component="li" variant="body2"><b>{d.path}</b> {d.what}{' '}
                <Box component="span" sx={{ color: 'text.secondary' }}>({d.inPlace ? 'in place' : 'reindex'})</Box></Typography>
            ))}
          </Stack>
          {plan.guard && <Box sx={{ mt: 1 }}><Notice color="warning">Accept this by name, since {plan.guard}: pingo apply --accept {plan.name}</Notice></Box>}
        </Box>
      )}
      {plan.notes.map((n) => <Stack key={n} direction="row" sx={{ gap: 1, mt: 1 }}><StateMark state="waiting" size={18} /><Typography variant="body2">{n}</Typography></Stack>)}
      <Stack sx={{ gap: 2, mt: 2 }}>
        {roots.map((root) => <Branch key={root.rows ?? ''} node={root} plan={plan} />)}
      </Stack>
      {plan.samples.length > 0 && (
        <Box component="details" sx={{ mt: 2, '& summary': { cursor: 'pointer', fontSize: '0.875rem', fontWeight: 600 } }}>
          <summary>{plan.samples.length} documents built from the first rows</summary>
          <Stack sx={{ gap: 1.5, mt: 1.5 }}>
            {plan.samples.map((s) => <Box key={s.key}><Typography variant="body2" sx={{ mb: 0.5 }}>Key {s.key}</Typography><Code>{JSON.stringify(s.document, null, 2)}</Code></Box>)}
          </Stack>
        </Box>
      )}
    </Paper>
  );
}

const kinds: Record<PlanNode['kind'], string> = { root: 'a document for each row', one: 'at most one row', many: 'a list of rows', list: 'a plain list' };

// Branch draws a table with its fields, and the tables that hang on it.
function Branch({ node, plan }: { node: PlanNode; plan: IndexPlan }) {
  const mine = (rows?: string) => (rows ?? '') === (node.rows ?? '');
  const at = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf('.')));
  const fields = plan.fields.filter((f) => mine(f.rows) && (node.kind === 'list' ? f.path === node.path : at(f.path) === node.path && !plan.nodes.some((n) => mine(n.rows) && n.kind === 'list' && n.path === f.path)));
  const children = plan.nodes.filter((n) => n.kind !== 'root' && mine(n.rows) && n.parent === node.path);
  const name = node.kind === 'root' ? node.rows : node.path.slice(node.path.lastIndexOf('.') + 1);
  return (
    <Box>
      <Box sx={{ border: 1, borderColor: node.kind === 'root' ? 'primary.main' : 'divider', borderRadius: 1.5, overflow: 'hidden' }}>
        <Stack direction="row" sx={{ gap: 1, px: 1.5, py: 0.75, bgcolor: 'background.default', alignItems: 'baseline', flexWrap: 'wrap' }}>
          {name && <Typography sx={{ fontWeight: 650, fontSize: '0.9rem' }}>{name}</Typography>}
          <Typography variant="body2" sx={{ overflowWrap: 'anywhere' }}>{node.table}</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
            {[kinds[node.kind], node.link && `by ${node.link}`, node.where && `where ${node.where}`, node.order && `order ${node.order}`, node.limit && `at most ${node.limit}`].filter(Boolean).join(', ')}
          </Typography>
        </Stack>
        <Stack sx={{ px: 1.5, py: 0.75, gap: 0.25 }}>
          {fields.map((f) => <Field key={f.path} field={f} list={node.kind === 'list'} />)}
        </Stack>
      </Box>
      {children.length > 0 && (
        <Stack component="ul" sx={{ listStyle: 'none', m: 0, p: 0, ml: { xs: 1.5, sm: 3 } }}>
          {children.map((c, i) => (
            <Box component="li" key={c.path} sx={{
              position: 'relative', pt: 1.25, pl: { xs: 2, sm: 3 },
              // The line down from the table above, and the one across to this table.
              '&::before': { content: '""', position: 'absolute', left: 0, top: 0, height: i === children.length - 1 ? 30 : '100%', borderLeft: 2, borderColor: 'divider' },
              '&::after': { content: '""', position: 'absolute', left: 0, top: 28, width: { xs: 16, sm: 24 }, borderTop: 2, borderColor: 'divider' },
            }}><Branch node={c} plan={plan} /></Box>
          ))}
        </Stack>
      )}
    </Box>
  );
}

function Field({ field: f, list }: { field: PlanField; list: boolean }) {
  const roles = [f.search && `search ${f.search}, ${f.match}`, f.filter && 'filter', f.sort && 'sort', f.facet && 'facet'].filter(Boolean) as string[];
  return (
    <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap', minHeight: 26 }}>
      <Typography variant="body2" sx={{ fontWeight: 600, minWidth: { sm: 130 } }}>{list ? 'each' : f.path.slice(f.path.lastIndexOf('.') + 1)}</Typography>
      <Typography variant="body2" sx={{ color: 'text.secondary', minWidth: { sm: 110 } }}>{f.list ? `list of ${f.type}` : f.type}</Typography>
      {roles.map((r) => <Chip key={r} size="small" variant="outlined" color={r.startsWith('search') ? 'primary' : 'default'} label={r} sx={{ height: 20, fontSize: '0.72rem' }} />)}
      <Typography variant="body2" noWrap title={f.from} sx={{ color: 'text.secondary', fontSize: '0.78rem', ml: { sm: 'auto' }, maxWidth: { xs: '100%', sm: 380 } }}>{f.from}</Typography>
    </Stack>
  );
}

// What to do first, for each kind of source.
import { Box, Tab, Tabs, Typography } from '@mui/material';
import { useState } from 'react';
import { Code, Empty } from './parts';

const rest = `engines:
  main: { kind: opensearch, url: "\${SEARCH_URL}" }
indexes:
  things:
    engine: main
    rows: app.things
    fields:
      name: { search: 10 }
      description:

$ pingo check
$ pingo apply`;

const ways = [
  {
    name: 'PostgreSQL', says: 'Triggers note every change. Name a table of your database and a few of its columns:',
    source: 'sources:\n  app: { kind: postgres, url: "${APP_URL}" }',
  },
  {
    name: 'MariaDB', says: 'Triggers note every change. Name a table of your database and a few of its columns:',
    source: 'sources:\n  app: { kind: mariadb, url: "${APP_URL}" }',
  },
  {
    name: 'Outbox', says: 'Your application writes a row for each change into a table of its own. pingo capture show prints the SQL of a good one:',
    source: 'sources:\n  app:\n    kind: postgres            # or mariadb\n    url: "${APP_URL}"\n    capture: outbox\n    outbox: { table: outbox, operation: operation }',
  },
  {
    name: 'Events', says: 'Senders send records as CloudEvents or plain JSON to /hooks/app, signed with a secret that pingo hooks secret makes:',
    source: 'sources:\n  app:\n    kind: webhook\n    signing_secrets: ["${APP_SECRET}"]\n    records:\n      things:\n        schema: { properties: { name: { type: string }, description: { type: string } } }',
  },
];

export function FirstSteps() {
  const [way, setWay] = useState(0);
  return (
    <Box sx={{ mt: 3 }}>
      <Empty title="Write down what a document is">
        <Tabs value={way} onChange={(_, v) => setWay(v)} variant="scrollable" allowScrollButtonsMobile sx={{ mb: 2 }} aria-label="Where your records are">
          {ways.map((w) => <Tab key={w.name} label={w.name} />)}
        </Tabs>
        <Typography variant="body2" sx={{ mb: 2 }}>{ways[way].says}</Typography>
        <Code>{`# pingo.yaml\n${ways[way].source}\n${rest}`}</Code>
      </Empty>
    </Box>
  );
}

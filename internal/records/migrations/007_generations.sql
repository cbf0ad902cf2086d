-- +goose Up

-- The kinds of engines whose definition does not name one, as they were recognized.
ALTER TABLE definition ADD COLUMN engine_kinds jsonb NOT NULL DEFAULT '{}';

-- A key that is put into the backlog again gets a number that was never given before, so
-- that a removal that comes late takes nothing away that is newer than what was built.
CREATE SEQUENCE backlog_generation;
ALTER TABLE backlog RENAME COLUMN turn TO generation;
UPDATE backlog SET generation = nextval('backlog_generation');
ALTER TABLE backlog ALTER COLUMN generation SET DEFAULT nextval('backlog_generation');

-- +goose Down
ALTER TABLE backlog ALTER COLUMN generation SET DEFAULT 1;
ALTER TABLE backlog RENAME COLUMN generation TO turn;
DROP SEQUENCE backlog_generation;
ALTER TABLE definition DROP COLUMN engine_kinds;

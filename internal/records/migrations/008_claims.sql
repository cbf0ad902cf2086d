-- +goose Up

-- Whether a holder or a process is alive shows in a counter that it moves: clocks, which
-- may be set back, say nothing about that. claimed is who the source was last seen to be
-- claimed by, and claiming the epoch of the last claim that may have been made:
-- see change.Claim. history is the line of history that this database was on
-- when the lease was renewed: another one tells that it was restored.
ALTER TABLE lease RENAME COLUMN until TO changed_at;
ALTER TABLE lease ADD COLUMN beat bigint NOT NULL DEFAULT 0, ADD COLUMN claimed jsonb, ADD COLUMN claiming bigint NOT NULL DEFAULT 0, ADD COLUMN history text NOT NULL DEFAULT '';
CREATE SEQUENCE beat; -- of all processes, so that one sees by its own whether the records went back
ALTER TABLE process ADD COLUMN beat bigint NOT NULL DEFAULT nextval('beat'), ADD COLUMN gone_at timestamptz, DROP COLUMN seen_at;

-- A birth mark makes the name of an edition one that no other ever had, also when the
-- records were lost or restored. missed says that changes may have gone unnoticed or
-- were given up, until another edition answers; refill, that one is begun without being
-- asked for.
ALTER TABLE edition ADD COLUMN birth text NOT NULL DEFAULT '', ADD COLUMN missed text,
    ADD COLUMN missed_at timestamptz, ADD COLUMN refill boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE edition DROP COLUMN birth, DROP COLUMN missed, DROP COLUMN missed_at, DROP COLUMN refill;
ALTER TABLE process DROP COLUMN beat, DROP COLUMN gone_at, ADD COLUMN seen_at timestamptz NOT NULL DEFAULT now();
DROP SEQUENCE beat;
ALTER TABLE lease DROP COLUMN beat, DROP COLUMN claimed, DROP COLUMN claiming, DROP COLUMN history;
ALTER TABLE lease RENAME COLUMN changed_at TO until;

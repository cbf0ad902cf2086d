-- +goose Up

-- An index may hold the rows of several tables: each chunk is of one of them, and
-- chunks are planned table by table.
ALTER TABLE chunk ADD COLUMN tree int NOT NULL DEFAULT 0;
ALTER TABLE edition ADD COLUMN planned_tree int NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE chunk DROP COLUMN tree;
ALTER TABLE edition DROP COLUMN planned_tree;

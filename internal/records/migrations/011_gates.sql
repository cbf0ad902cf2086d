-- +goose Up

-- What an edition must come to before it answers, as last looked at, and whether a person has said
-- that it is to answer all the same.
ALTER TABLE edition ADD COLUMN gates jsonb NOT NULL DEFAULT '[]', ADD COLUMN decided boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE edition DROP COLUMN gates, DROP COLUMN decided;

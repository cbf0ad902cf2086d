-- +goose Up

-- sound is the line of history that the records were on when the holder of the lease last knew
-- them to be whole, or had recorded that changes may be missing. A holder that dies before it
-- has leaves it as it is, so that the next one finds out, too.
ALTER TABLE lease ADD COLUMN sound text NOT NULL DEFAULT '';
UPDATE lease SET sound = history;

-- +goose Down
ALTER TABLE lease DROP COLUMN sound;

-- +goose Up

-- Points of the last hour are ten seconds apart, older ones stand for a minute, and then for a quarter of an hour.
ALTER TABLE sample ADD COLUMN step int NOT NULL DEFAULT 10;
ALTER TABLE sample DROP CONSTRAINT sample_pkey;
ALTER TABLE sample ADD PRIMARY KEY (index_name, step, at);
CREATE INDEX ON sample (step, at);

-- +goose Down
DELETE FROM sample WHERE step <> 10;
ALTER TABLE sample DROP COLUMN step;
ALTER TABLE sample ADD PRIMARY KEY (index_name, at);

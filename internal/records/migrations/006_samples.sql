-- +goose Up

-- How each index was, every few seconds, for a day.
CREATE TABLE sample (
    index_name text NOT NULL,
    at timestamptz NOT NULL,
    body jsonb NOT NULL,
    PRIMARY KEY (index_name, at)
);

-- +goose Down
DROP TABLE sample;

-- +goose Up

-- Sources that no process connects to, until a time, since a person needs their database without sessions.
CREATE TABLE disconnected (
    source text PRIMARY KEY,
    until timestamptz NOT NULL
);

-- +goose Down
DROP TABLE disconnected;

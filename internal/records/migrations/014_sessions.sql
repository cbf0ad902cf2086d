-- +goose Up
ALTER TABLE token ADD COLUMN expires_at timestamptz;

-- Who is signed in to the console, by hashes of what their cookies hold.
CREATE TABLE session (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash bytea NOT NULL UNIQUE,
    token text NOT NULL REFERENCES token ON DELETE CASCADE,
    began_at timestamptz NOT NULL DEFAULT now(),
    used_at timestamptz NOT NULL DEFAULT now(),
    ends_at timestamptz NOT NULL
);
CREATE INDEX ON session (token);

-- +goose Down
DROP TABLE session;
ALTER TABLE token DROP COLUMN expires_at;

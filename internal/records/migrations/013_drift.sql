-- +goose Up

-- How much of an edition was compared with its rows, and when.
CREATE TABLE coverage (
    index_name text NOT NULL,
    number int NOT NULL,
    body jsonb NOT NULL,
    PRIMARY KEY (index_name, number),
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);

-- Documents that are not what their rows make, as last looked at.
CREATE TABLE difference (
    index_name text NOT NULL,
    number int NOT NULL,
    key text NOT NULL,
    kind text NOT NULL,
    cause text NOT NULL,
    found_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (index_name, number, key),
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);

-- Checks and repairs that people, schedules or events ask for, and what came of them.
CREATE TABLE drift_order (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    index_name text NOT NULL,
    number int NOT NULL,
    edition text NOT NULL,
    asked jsonb NOT NULL,
    asked_by text NOT NULL,
    asked_at timestamptz NOT NULL DEFAULT now(),
    began_at timestamptz,
    ended_at timestamptz,
    outcome jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX ON drift_order (index_name, id);
CREATE INDEX ON drift_order (index_name, number) WHERE ended_at IS NULL;

-- +goose Down
DROP TABLE coverage;
DROP TABLE difference;
DROP TABLE drift_order;

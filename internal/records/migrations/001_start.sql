-- +goose Up

-- One row: who this service is, for sources that let only one read their journal,
-- and the epoch that every holder of the lease raises.
CREATE TABLE service (
    id text PRIMARY KEY,
    epoch bigint NOT NULL DEFAULT 0
);

-- Every definition that was applied, as written: secrets are references.
CREATE TABLE definition (
    version int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    files jsonb NOT NULL,
    applied_at timestamptz NOT NULL DEFAULT now(),
    applied_by text NOT NULL,
    carried_out boolean NOT NULL DEFAULT false
);

CREATE TABLE edition (
    index_name text NOT NULL,
    number int NOT NULL,
    state text NOT NULL,
    shape jsonb NOT NULL,
    engine text NOT NULL,
    definition int NOT NULL REFERENCES definition (version),
    expected_rows bigint NOT NULL DEFAULT 0,
    planned_to text[],
    planned boolean NOT NULL DEFAULT false,
    began_at timestamptz,
    filled_at timestamptz,
    bytes bigint NOT NULL DEFAULT 0,
    rows bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (index_name, number)
);

-- A chunk is written when it is planned and deleted when it is done, so that what
-- stands here is what a restart must read again.
CREATE TABLE chunk (
    index_name text NOT NULL,
    number int NOT NULL,
    chunk int NOT NULL,
    after text[],
    upto text[],
    PRIMARY KEY (index_name, number, chunk),
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);

CREATE TABLE failed_document (
    index_name text NOT NULL,
    number int NOT NULL,
    key text NOT NULL,
    kind text NOT NULL,
    reason text NOT NULL,
    document text,
    attempts int NOT NULL DEFAULT 1,
    first_at timestamptz NOT NULL DEFAULT now(),
    last_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (index_name, number, key),
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);

CREATE TABLE token (
    name text PRIMARY KEY,
    role text NOT NULL,
    hash bytea NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at timestamptz
);

-- +goose Down
DROP TABLE token, failed_document, chunk, edition, definition, service;

-- +goose Up

-- Documents that are to be built and whose changes are done in the journal: those of
-- changes that touch very many, and those of an edition that cannot take them now.
-- turn grows when a key is put here again, so that only what was built is taken away.
CREATE TABLE backlog (
    index_name text NOT NULL,
    number int NOT NULL,
    key text COLLATE "C" NOT NULL,
    turn bigint NOT NULL DEFAULT 1,
    at timestamptz NOT NULL,
    PRIMARY KEY (index_name, number, key),
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);

-- +goose Down
DROP TABLE backlog;

-- +goose Up

-- All documents of a tree are to be built again, by ranges of its keys; it is done up to a key.
CREATE TABLE rebuild (
    index_name text NOT NULL,
    number int NOT NULL,
    tree int NOT NULL,
    upto text[],
    rows bigint NOT NULL DEFAULT 0,
    generation bigint NOT NULL DEFAULT nextval('backlog_generation'),
    at timestamptz NOT NULL,
    PRIMARY KEY (index_name, number, tree),
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);

-- +goose Down
DROP TABLE rebuild;

-- +goose Up

-- The processes that serve on these records, as long as they say so.
CREATE TABLE process (
    id text PRIMARY KEY,
    host text NOT NULL,
    address text NOT NULL,
    begun_at timestamptz NOT NULL DEFAULT now(),
    seen_at timestamptz NOT NULL DEFAULT now()
);

-- Who feeds the indexes of a source, until when, and what it says of them. The epoch
-- grows with every holder; see Records.Take.
CREATE TABLE lease (
    source text PRIMARY KEY,
    holder text NOT NULL,
    epoch bigint NOT NULL,
    until timestamptz NOT NULL,
    status jsonb
);
INSERT INTO lease (source, holder, epoch, until) SELECT DISTINCT shape ->> 'source', '', (SELECT epoch FROM service), now() FROM edition;
ALTER TABLE service DROP COLUMN epoch;

-- The last number that an edition of an index was given: none is used twice, since an
-- engine may still have a copy of that name.
CREATE TABLE numbered (
    index_name text PRIMARY KEY,
    number int NOT NULL
);
INSERT INTO numbered SELECT index_name, max(number) FROM edition GROUP BY index_name;

-- +goose Down
DROP TABLE numbered;
ALTER TABLE service ADD COLUMN epoch bigint NOT NULL DEFAULT 0;
UPDATE service SET epoch = coalesce((SELECT max(epoch) FROM lease), 0);
DROP TABLE lease, process;

-- +goose Up

-- The outcome of the events that were sent to a source: a row for those of one request that were
-- accepted together, and one for each other event.
CREATE TABLE intake_receipt (
    seq bigint GENERATED ALWAYS AS IDENTITY,
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    source text COLLATE "C" NOT NULL,
    -- as the sender names the event; empty when it has no name
    event text COLLATE "C" NOT NULL DEFAULT '',
    record text NOT NULL DEFAULT '',
    key text NOT NULL DEFAULT '',
    op text NOT NULL DEFAULT '',
    outcome text NOT NULL,
    reason text NOT NULL DEFAULT '',
    bytes bigint NOT NULL DEFAULT 0,
    events int NOT NULL DEFAULT 1,
    PRIMARY KEY (source, seq)
);
-- A request counts once, and an event that has no version does.
CREATE UNIQUE INDEX intake_receipt_event ON intake_receipt (source, event) WHERE outcome = 'accepted' AND event <> '';

-- As what the properties of a record's bodies are read. Each set that differs from one before in
-- more than new columns is a generation of its own: what was made by an earlier one goes on.
CREATE TABLE intake_view (
    source text NOT NULL,
    record text NOT NULL,
    generation int NOT NULL,
    columns jsonb NOT NULL,
    PRIMARY KEY (source, record, generation)
);

-- Records that are said to have changed, and are to be read from where they are.
CREATE TABLE intake_fetch (
    source text NOT NULL,
    record text NOT NULL,
    key text NOT NULL,
    version text NOT NULL DEFAULT '',
    -- another one whenever it is said again
    generation bigint GENERATED ALWAYS AS IDENTITY,
    attempts int NOT NULL DEFAULT 0,
    due timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (source, record, key)
);

-- Who reads the sources in which nothing of Pingo's may stand, and how far.
CREATE TABLE intake_claim (
    source text PRIMARY KEY,
    service text NOT NULL,
    holder text NOT NULL,
    epoch bigint NOT NULL,
    mark bigint NOT NULL,
    position jsonb NOT NULL DEFAULT '{}'
);

-- +goose StatementBegin
-- A patch as RFC 7396 describes it.
CREATE FUNCTION intake_merge(target jsonb, patch jsonb) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
DECLARE
    name text;
    value jsonb;
    merged jsonb;
BEGIN
    IF jsonb_typeof(patch) <> 'object' THEN
        RETURN patch;
    END IF;
    merged := CASE WHEN jsonb_typeof(target) = 'object' THEN target ELSE '{}' END;
    FOR name, value IN SELECT * FROM jsonb_each(patch) LOOP
        IF value = 'null' THEN
            merged := merged - name;
        ELSE
            merged := jsonb_set(merged, ARRAY[name], intake_merge(merged -> name, value));
        END IF;
    END LOOP;
    RETURN merged;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION intake_merge(jsonb, jsonb);
DROP TABLE intake_claim;
DROP TABLE intake_fetch;
DROP TABLE intake_view;
DROP TABLE intake_receipt;

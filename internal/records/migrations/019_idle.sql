-- +goose Up

-- They are read each moment, and a shape is large.
ALTER TABLE edition
    ADD source text GENERATED ALWAYS AS (shape ->> 'source') STORED,
    ADD others jsonb GENERATED ALWAYS AS (jsonb_path_query_array(shape, '$.trees[*].nodes[*].source')) STORED;

-- It is written each second, and packed by whoever writes it.
ALTER TABLE lease DROP status, ADD status bytea;
ALTER TABLE lease ALTER status SET STORAGE EXTERNAL;

-- +goose Down
ALTER TABLE edition DROP source, DROP others;
ALTER TABLE lease DROP status, ADD status jsonb;

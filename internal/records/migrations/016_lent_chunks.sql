-- +goose Up

-- A chunk may be offered by the holder of a lease, whose fence this is, to other processes. One of them takes it,
-- moves its beat while it works, and says at last whether it is filled.
ALTER TABLE chunk ADD COLUMN offered text, ADD COLUMN process text, ADD COLUMN beat bigint NOT NULL DEFAULT 0,
    ADD COLUMN filled boolean, ADD COLUMN late boolean NOT NULL DEFAULT false,
    ADD COLUMN rows bigint NOT NULL DEFAULT 0, ADD COLUMN bytes bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE chunk DROP COLUMN offered, DROP COLUMN process, DROP COLUMN beat, DROP COLUMN filled, DROP COLUMN late, DROP COLUMN rows,
    DROP COLUMN bytes;

-- +goose Up

-- What several refusals have in common, so that they can be treated together.
ALTER TABLE failed_document ADD COLUMN cause text NOT NULL DEFAULT '';
CREATE INDEX failed_document_cause ON failed_document (index_name, cause);

-- +goose Down
ALTER TABLE failed_document DROP COLUMN cause;

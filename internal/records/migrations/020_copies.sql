-- +goose Up

-- What names the copy of an edition that the engine has been given documents for.
ALTER TABLE edition ADD copy text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE edition DROP copy;

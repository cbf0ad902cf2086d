-- +goose Up

ALTER TABLE rebuild ADD paused boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE rebuild DROP paused;

-- +goose Up

-- Alerts that are raised, and those whose end has not been sent yet. sender is the process that sends what happened last.
CREATE TABLE alert (
    index_name text NOT NULL,
    about text NOT NULL,
    raised boolean NOT NULL,
    sentence text NOT NULL,
    since timestamptz NOT NULL,
    sender text NOT NULL,
    sent boolean NOT NULL DEFAULT false,
    PRIMARY KEY (index_name, about)
);

-- +goose Down
DROP TABLE alert;

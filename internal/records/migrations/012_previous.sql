-- +goose Up

-- Until when an edition that answered is kept, to answer again; whether its filling is halted, at which
-- pace it goes, and from when on; whether it takes the place of an index that somebody else made.
ALTER TABLE edition ADD COLUMN kept_until timestamptz, ADD COLUMN paused boolean NOT NULL DEFAULT false,
    ADD COLUMN pace jsonb, ADD COLUMN begins_at timestamptz,
    ADD COLUMN takes_over boolean NOT NULL DEFAULT false;

-- At most one edition answers.
UPDATE edition e SET state = 'cancelled' WHERE state = 'switched'
    AND EXISTS (SELECT FROM edition n WHERE n.index_name = e.index_name AND n.number > e.number AND n.state = 'switched');

-- The outcome of an edition, and when: its steps, and what people did to it.
CREATE TABLE edition_event (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    index_name text NOT NULL,
    number int NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    what text NOT NULL,
    FOREIGN KEY (index_name, number) REFERENCES edition ON DELETE CASCADE
);
CREATE INDEX ON edition_event (index_name, number, id);

-- +goose Down
DROP TABLE edition_event;
ALTER TABLE edition DROP COLUMN kept_until, DROP COLUMN paused, DROP COLUMN pace, DROP COLUMN begins_at, DROP COLUMN takes_over;

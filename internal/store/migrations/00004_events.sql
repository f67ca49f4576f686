-- +goose Up
ALTER TABLE journal ADD COLUMN event TEXT NOT NULL DEFAULT '';
UPDATE journal SET event = json_extract(record, '$.event');
CREATE INDEX journal_by_event ON journal (event, seq);

-- +goose Down
DROP INDEX journal_by_event;
ALTER TABLE journal DROP COLUMN event;

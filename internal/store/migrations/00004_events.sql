-- +goose Up
ALTER TABLE journal ADD COLUMN event TEXT NOT NULL DEFAULT '';
-- A record that is broken is for verify to find, not for this.
UPDATE journal SET event = coalesce(json_extract(record, '$.event'), '') WHERE json_valid(record);
CREATE INDEX journal_by_event ON journal (event, seq);

-- +goose Down
DROP INDEX journal_by_event;
ALTER TABLE journal DROP COLUMN event;

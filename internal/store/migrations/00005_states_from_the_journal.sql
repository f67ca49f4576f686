-- +goose Up
-- Where a batch and its lines stand follows from the journal.
ALTER TABLE batches DROP COLUMN state;
ALTER TABLE lines DROP COLUMN note;

-- +goose Down
ALTER TABLE lines ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE batches ADD COLUMN state TEXT NOT NULL DEFAULT '';

-- +goose Up
CREATE INDEX lines_by_entry ON lines (CASE WHEN json_valid(body) THEN json_extract(body, '$.id') END);

-- +goose Down
DROP INDEX lines_by_entry;

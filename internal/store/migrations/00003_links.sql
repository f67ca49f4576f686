-- +goose Up
CREATE TABLE links (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    body    TEXT NOT NULL, -- JSON
    ended   INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE reconciliations (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    yard    TEXT NOT NULL,
    at      TEXT NOT NULL, -- RFC 3339, UTC
    found   TEXT NOT NULL  -- what identifies each finding, a line each
);
CREATE INDEX reconciliations_by_yard ON reconciliations (yard, id);

-- +goose Down
DROP TABLE reconciliations;
DROP TABLE links;

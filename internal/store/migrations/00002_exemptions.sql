-- +goose Up
CREATE TABLE exemptions (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    body    TEXT NOT NULL, -- JSON
    ended   INTEGER NOT NULL DEFAULT 0
);

-- +goose Down
DROP TABLE exemptions;

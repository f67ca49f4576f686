-- +goose Up
CREATE TABLE batches (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    state   TEXT NOT NULL,
    head    TEXT NOT NULL -- JSON
);
CREATE TABLE lines (
    batch   INTEGER NOT NULL REFERENCES batches (id),
    n       INTEGER NOT NULL,
    state   TEXT NOT NULL,
    note    TEXT NOT NULL DEFAULT '',
    body    TEXT NOT NULL, -- JSON, part of the batch's digest
    PRIMARY KEY (batch, n)
);
CREATE TABLE journal (
    seq     INTEGER PRIMARY KEY,
    batch   INTEGER NOT NULL,
    line    INTEGER NOT NULL,
    record  TEXT NOT NULL, -- JSON, hashed as it stands
    hash    TEXT NOT NULL
);
CREATE INDEX journal_by_line ON journal (batch, line);

-- +goose Down
DROP TABLE journal;
DROP TABLE lines;
DROP TABLE batches;

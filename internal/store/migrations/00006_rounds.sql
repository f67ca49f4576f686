-- +goose Up
-- What audits found, as the time that each finding was there: from the audit
-- that first had it to the one that had it no more (0 while it is there).
CREATE TABLE audits (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    yard    TEXT NOT NULL,
    kind    TEXT NOT NULL,
    at      TEXT NOT NULL, -- RFC 3339, UTC
    body    TEXT NOT NULL  -- JSON
);
CREATE INDEX audits_by_yard ON audits (yard, id);
CREATE TABLE presences (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    yard    TEXT NOT NULL,
    mark    BLOB NOT NULL, -- what makes it the same finding
    name    TEXT NOT NULL, -- of the check
    body    TEXT NOT NULL, -- JSON
    came    INTEGER NOT NULL,
    went    INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX presences_by_yard ON presences (yard, went);
-- Which findings a reader has been told of, as long as they are there.
CREATE TABLE readers (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    name    TEXT NOT NULL UNIQUE
);
CREATE TABLE told (
    reader   INTEGER NOT NULL REFERENCES readers (id),
    presence INTEGER NOT NULL,
    PRIMARY KEY (reader, presence)
) WITHOUT ROWID;
CREATE INDEX told_by_presence ON told (presence);
DROP TABLE reconciliations;

CREATE TABLE runs (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    round   TEXT NOT NULL,
    began   TEXT NOT NULL, -- RFC 3339, UTC
    ended   TEXT NOT NULL DEFAULT '',
    outcome TEXT NOT NULL DEFAULT '',
    body    TEXT NOT NULL DEFAULT '' -- JSON
);
CREATE INDEX runs_by_round ON runs (round, id);
CREATE TABLE brakes (
    round   TEXT PRIMARY KEY,
    run     INTEGER NOT NULL,
    why     TEXT NOT NULL -- JSON
);
CREATE TABLE messages (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    round   TEXT NOT NULL,
    run     INTEGER NOT NULL,
    kind    TEXT NOT NULL,
    made    TEXT NOT NULL,
    head    TEXT NOT NULL, -- JSON
    body    BLOB NOT NULL  -- emptied once nobody waits for it
);
CREATE TABLE deliveries (
    message INTEGER NOT NULL REFERENCES messages (id),
    address TEXT NOT NULL,
    state   TEXT NOT NULL,
    tries   INTEGER NOT NULL DEFAULT 0,
    next    TEXT NOT NULL DEFAULT '', -- not tried again before
    error   TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (message, address)
) WITHOUT ROWID;
CREATE INDEX deliveries_by_state ON deliveries (state);

-- +goose Down
DROP TABLE deliveries;
DROP TABLE messages;
DROP TABLE brakes;
DROP TABLE runs;
DROP TABLE told;
DROP TABLE readers;
DROP TABLE presences;
DROP TABLE audits;
CREATE TABLE reconciliations (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    yard    TEXT NOT NULL,
    at      TEXT NOT NULL,
    found   TEXT NOT NULL
);
CREATE INDEX reconciliations_by_yard ON reconciliations (yard, id);

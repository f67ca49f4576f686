-- +goose Up
-- When each account signed in last from each source, as logs have told: logs rotate away.
CREATE TABLE signins (
    directory TEXT NOT NULL,    -- its identity
    id        TEXT NOT NULL,    -- of the account, in its readable form
    source    TEXT NOT NULL,    -- machine or address, "" where no log says
    via       TEXT NOT NULL,
    at        INTEGER NOT NULL, -- microseconds since 1970
    PRIMARY KEY (directory, id, source, via)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE signins;

-- +goose Up
-- What is said of a change set, with the first of its changes.
ALTER TABLE changes ADD COLUMN message TEXT NOT NULL DEFAULT '';

-- Named states of the site: as it was after a change.
CREATE TABLE versions (
    name    TEXT PRIMARY KEY,
    change  INTEGER NOT NULL, -- id of the newest change that it has; 0: of an empty site
    time    TEXT NOT NULL,
    who     TEXT NOT NULL,
    message TEXT NOT NULL
) STRICT;

CREATE TABLE notes (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    kind      TEXT NOT NULL,
    name      TEXT NOT NULL, -- of what it stands at; follows renamings
    text      TEXT NOT NULL,
    who       TEXT NOT NULL,
    time      TEXT NOT NULL,
    done_by   TEXT NOT NULL DEFAULT '', -- empty: open
    done_time TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX notes_at ON notes (kind, name);

-- Changes that were prepared and are not in force.
CREATE TABLE proposals (
    id           INTEGER PRIMARY KEY AUTOINCREMENT,
    title        TEXT NOT NULL,
    who          TEXT NOT NULL,
    time         TEXT NOT NULL,
    state        TEXT NOT NULL DEFAULT 'open', -- open, taken, dropped
    body         TEXT NOT NULL,                -- the changes, as JSON
    decided_by   TEXT NOT NULL DEFAULT '',
    decided_time TEXT NOT NULL DEFAULT '',
    change       INTEGER NOT NULL DEFAULT 0    -- the change set that it became
) STRICT;

CREATE TABLE comments (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    proposal INTEGER NOT NULL REFERENCES proposals (id) ON DELETE CASCADE,
    who      TEXT NOT NULL,
    time     TEXT NOT NULL,
    text     TEXT NOT NULL
) STRICT;
CREATE INDEX comments_of ON comments (proposal);

-- +goose Down
DROP TABLE comments;
DROP TABLE proposals;
DROP TABLE notes;
DROP TABLE versions;
ALTER TABLE changes DROP COLUMN message;

-- +goose Up
CREATE TABLE links (
    name    TEXT PRIMARY KEY,
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
) STRICT;

CREATE TABLE stations (
    name    TEXT PRIMARY KEY,
    link    TEXT NOT NULL REFERENCES links (name) DEFERRABLE INITIALLY DEFERRED,
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
) STRICT;

CREATE TABLE points (
    tag     TEXT PRIMARY KEY,
    station TEXT NOT NULL REFERENCES stations (name) DEFERRABLE INITIALLY DEFERRED,
    version INTEGER NOT NULL,
    body    TEXT NOT NULL
) STRICT;

CREATE TABLE changes (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    batch   INTEGER NOT NULL, -- id of the first change made together with this one
    time    TEXT NOT NULL,
    who     TEXT NOT NULL,
    kind    TEXT NOT NULL,
    action  TEXT NOT NULL,
    name    TEXT NOT NULL,
    before  TEXT,
    after   TEXT
) STRICT;
CREATE INDEX changes_of ON changes (kind, name, id);

CREATE TABLE writes (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    time    TEXT NOT NULL,
    who     TEXT NOT NULL,
    tag     TEXT NOT NULL,
    outcome TEXT NOT NULL, -- 'unknown' from when it is sent until its outcome is known
    before  TEXT NOT NULL,
    sent    TEXT NOT NULL,
    after   TEXT NOT NULL,
    message TEXT NOT NULL
) STRICT;
CREATE INDEX writes_of ON writes (tag, id);

-- +goose Down
DROP TABLE writes;
DROP TABLE changes;
DROP TABLE points;
DROP TABLE stations;
DROP TABLE links;

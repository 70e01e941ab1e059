-- +goose Up
-- What devices reported, in their order. Points may be renamed and removed; an event keeps what was.
CREATE TABLE events (
  id INTEGER PRIMARY KEY,
  time INTEGER NOT NULL,        -- microseconds since 1970, when it became known
  source_time INTEGER,          -- milliseconds since 1970, the device's own
  station TEXT NOT NULL,
  tag TEXT NOT NULL,
  value TEXT NOT NULL,          -- JSON
  text TEXT NOT NULL,
  unit TEXT NOT NULL,
  quality TEXT NOT NULL,
  reason TEXT NOT NULL,
  raw TEXT NOT NULL
);
CREATE INDEX events_tag ON events (tag, id);

-- +goose Down
DROP TABLE events;

-- +goose Up
-- One table for entities of every kind. What one refers to is in its body, and checked when the site is modified and loaded.
CREATE TABLE entities (
    kind    TEXT NOT NULL,
    name    TEXT NOT NULL,
    version INTEGER NOT NULL,
    body    TEXT NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT;
INSERT INTO entities (kind, name, version, body) SELECT 'link', name, version, body FROM links;
INSERT INTO entities (kind, name, version, body) SELECT 'station', name, version, body FROM stations;
INSERT INTO entities (kind, name, version, body) SELECT 'point', tag, version, body FROM points;
DROP TABLE points;
DROP TABLE stations;
DROP TABLE links;

-- +goose Down
CREATE TABLE links (name TEXT PRIMARY KEY, version INTEGER NOT NULL, body TEXT NOT NULL) STRICT;
CREATE TABLE stations (name TEXT PRIMARY KEY, link TEXT NOT NULL REFERENCES links (name) DEFERRABLE INITIALLY DEFERRED, version INTEGER NOT NULL, body TEXT NOT NULL) STRICT;
CREATE TABLE points (tag TEXT PRIMARY KEY, station TEXT NOT NULL REFERENCES stations (name) DEFERRABLE INITIALLY DEFERRED, version INTEGER NOT NULL, body TEXT NOT NULL) STRICT;
INSERT INTO links SELECT name, version, body FROM entities WHERE kind = 'link';
INSERT INTO stations SELECT name, body ->> 'link', version, body FROM entities WHERE kind = 'station';
INSERT INTO points SELECT name, body ->> 'station', version, body FROM entities WHERE kind = 'point';
DROP TABLE entities;

-- +goose Up
-- Entities by kind and name in one tree, without a second one from there to the rows.
CREATE TABLE entities_in_one_tree (
    kind    TEXT NOT NULL,
    name    TEXT NOT NULL,
    version INTEGER NOT NULL,
    body    TEXT NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;
INSERT INTO entities_in_one_tree (kind, name, version, body) SELECT kind, name, version, body FROM entities ORDER BY kind, name;
DROP TABLE entities;
ALTER TABLE entities_in_one_tree RENAME TO entities;

-- +goose Down
CREATE TABLE entities_with_rows (
    kind    TEXT NOT NULL,
    name    TEXT NOT NULL,
    version INTEGER NOT NULL,
    body    TEXT NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT;
INSERT INTO entities_with_rows (kind, name, version, body) SELECT kind, name, version, body FROM entities ORDER BY kind, name;
DROP TABLE entities;
ALTER TABLE entities_with_rows RENAME TO entities;

-- +goose Up
CREATE TABLE column_sets (
    name TEXT PRIMARY KEY,
    time TEXT NOT NULL,
    who  TEXT NOT NULL,
    body TEXT NOT NULL -- the headings of columns, by what they hold
) STRICT;

-- +goose Down
DROP TABLE column_sets;

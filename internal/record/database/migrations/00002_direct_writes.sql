-- +goose Up
-- Writes to addresses without a point have no tag; for all of them, where they went.
ALTER TABLE writes ADD COLUMN station TEXT NOT NULL DEFAULT '';
ALTER TABLE writes ADD COLUMN address TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE writes DROP COLUMN address;
ALTER TABLE writes DROP COLUMN station;

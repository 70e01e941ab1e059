-- +goose Up
-- What a write was to write, as a person reads it; also of one that was refused before anything was sent.
ALTER TABLE writes ADD COLUMN tried TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE writes DROP COLUMN tried;

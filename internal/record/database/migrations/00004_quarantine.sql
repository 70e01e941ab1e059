-- +goose Up
-- Records that did not fit the site when it was loaded, as they were, so that nothing is lost.
CREATE TABLE quarantine (
  id INTEGER PRIMARY KEY,
  time TEXT NOT NULL,
  kind TEXT NOT NULL,
  name TEXT NOT NULL,
  body TEXT NOT NULL,
  why TEXT NOT NULL
);

-- +goose Down
DROP TABLE quarantine;

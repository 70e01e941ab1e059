-- +goose Up
CREATE TABLE alarms (
	tag TEXT NOT NULL,
	bound TEXT NOT NULL,
	body TEXT NOT NULL,
	PRIMARY KEY (tag, bound)
) WITHOUT ROWID;

CREATE TABLE alarm_log (
	id INTEGER PRIMARY KEY AUTOINCREMENT,
	time TEXT NOT NULL,
	tag TEXT NOT NULL,
	bound TEXT NOT NULL,
	step TEXT NOT NULL,
	body TEXT NOT NULL
);
CREATE INDEX alarm_log_tag ON alarm_log (tag, id);

-- +goose Down
DROP TABLE alarm_log;
DROP TABLE alarms;

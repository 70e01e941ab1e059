-- +goose Up
CREATE TABLE accounts (
    name      TEXT PRIMARY KEY,
    role      TEXT NOT NULL,
    only_     TEXT NOT NULL,               -- JSON: patterns
    password  TEXT NOT NULL,               -- argon2id with its parameters; empty: none, by the directory alone
    factor    TEXT NOT NULL DEFAULT '',    -- secret of the second factor (TOTP, RFC 6238), base32; empty: none
    step      INTEGER NOT NULL DEFAULT 0,  -- time step of the last code that was taken
    directory INTEGER NOT NULL DEFAULT 0,  -- 1: the directory says who it is and which role it has
    created   TEXT NOT NULL,
    signed_in TEXT NOT NULL DEFAULT ''
) STRICT;

CREATE TABLE tokens (
    name    TEXT PRIMARY KEY,
    account TEXT NOT NULL REFERENCES accounts (name) ON DELETE CASCADE,
    hash    TEXT NOT NULL UNIQUE, -- SHA-256 of the token
    role    TEXT NOT NULL,
    only_   TEXT NOT NULL,
    created TEXT NOT NULL,
    ends    TEXT NOT NULL,
    used    TEXT NOT NULL DEFAULT ''
) STRICT;

CREATE TABLE sessions (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    account TEXT NOT NULL REFERENCES accounts (name) ON DELETE CASCADE,
    hash    TEXT NOT NULL UNIQUE, -- SHA-256 of its secret
    began   TEXT NOT NULL,
    seen    TEXT NOT NULL,
    address TEXT NOT NULL,
    agent   TEXT NOT NULL
) STRICT;

-- What was done and refused. Each entry's hash is made of it and of the hash before.
CREATE TABLE audit (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    time    TEXT NOT NULL,
    who     TEXT NOT NULL,
    address TEXT NOT NULL,
    action  TEXT NOT NULL,
    subject TEXT NOT NULL,
    detail  TEXT NOT NULL,
    hash    TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE audit;
DROP TABLE sessions;
DROP TABLE tokens;
DROP TABLE accounts;

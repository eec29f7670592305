-- +goose Up
-- Of which cluster this node is one, and how much of its log is carried out here.
CREATE TABLE replica (
    one     INTEGER PRIMARY KEY CHECK (one = 1),
    cluster TEXT NOT NULL,
    applied INTEGER NOT NULL
) STRICT;

-- Entries of the log that could not be carried out, as they came.
CREATE TABLE quarantine (
    seq   INTEGER PRIMARY KEY,
    at    INTEGER NOT NULL,
    node  TEXT NOT NULL,
    what  TEXT NOT NULL,
    why   TEXT NOT NULL,
    entry BLOB NOT NULL
) STRICT;

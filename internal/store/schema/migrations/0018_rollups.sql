-- +goose Up
-- Calls added up by the hour, kept longer than the calls themselves. took is a histogram
-- of how long those took that were carried.
CREATE TABLE rollups (
    hour      INTEGER NOT NULL,
    server    TEXT NOT NULL,
    tool      TEXT NOT NULL,
    agent     TEXT NOT NULL,
    person    TEXT NOT NULL,
    ok        INTEGER NOT NULL,
    refused   INTEGER NOT NULL,
    failed    INTEGER NOT NULL,
    bytes_in  INTEGER NOT NULL,
    bytes_out INTEGER NOT NULL,
    took      BLOB NOT NULL,
    PRIMARY KEY (hour, server, tool, agent, person)
) STRICT, WITHOUT ROWID;
-- Up to when that was done: hours without calls have no row.
CREATE TABLE rolled_up (one INTEGER PRIMARY KEY CHECK (one = 1), until INTEGER NOT NULL) STRICT;

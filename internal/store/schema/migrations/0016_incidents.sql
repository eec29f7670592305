-- +goose Up
-- How servers did: a row for each change of state, in force until the next.
CREATE TABLE server_states (
    server  TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    at      INTEGER NOT NULL,
    state   TEXT NOT NULL,
    cause   TEXT NOT NULL,
    version TEXT NOT NULL,
    PRIMARY KEY (server, at)
) STRICT, WITHOUT ROWID;

-- One cause at one server, from when it began until it was gone; until is 0 while it
-- lasts, last_good 0 when the server was never seen well before.
CREATE TABLE incidents (
    id        TEXT PRIMARY KEY,
    server    TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    cause     TEXT NOT NULL,
    title     TEXT NOT NULL,
    remedy    TEXT NOT NULL,
    who       TEXT NOT NULL,
    evidence  TEXT NOT NULL,
    first     INTEGER NOT NULL,
    since     INTEGER NOT NULL,
    last_good INTEGER NOT NULL,
    until     INTEGER NOT NULL,
    reopened  INTEGER NOT NULL,
    notes     TEXT NOT NULL
) STRICT;
CREATE INDEX incidents_by_server ON incidents (server, cause, since);
CREATE INDEX incidents_by_time ON incidents (since);

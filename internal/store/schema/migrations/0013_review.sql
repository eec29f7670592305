-- +goose Up
-- How the tool lists of servers are reviewed, where it is not the default, and what of them
-- somebody accepted.
CREATE TABLE review_modes (
    server TEXT PRIMARY KEY REFERENCES servers (id) ON DELETE CASCADE,
    mode   TEXT NOT NULL CHECK (mode IN ('changes', 'all'))
) STRICT;
CREATE TABLE accepted_tools (
    server  TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    name    TEXT NOT NULL,
    tool    TEXT NOT NULL CHECK (json_valid(tool)),
    by_name TEXT NOT NULL,
    at      INTEGER NOT NULL,
    PRIMARY KEY (server, name)
) STRICT, WITHOUT ROWID;

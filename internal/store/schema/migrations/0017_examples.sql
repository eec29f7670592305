-- +goose Up
-- Calls that are kept as examples of a server's tools, for trials and checkups.
CREATE TABLE examples (
    server    TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    name      TEXT NOT NULL,
    tool      TEXT NOT NULL,
    arguments TEXT NOT NULL,
    by        TEXT NOT NULL,
    at        INTEGER NOT NULL,
    PRIMARY KEY (server, name)
) STRICT, WITHOUT ROWID;

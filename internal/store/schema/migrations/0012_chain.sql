-- +goose Up
-- Calls that were committed together are sealed: the hash of each seal covers them and the
-- seal before, so that a later alteration shows. Those of before have no seal.
CREATE TABLE seals (
    seq     INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    records INTEGER NOT NULL,
    first   INTEGER NOT NULL,
    last    INTEGER NOT NULL,
    hash    BLOB NOT NULL
) STRICT;
ALTER TABLE calls ADD COLUMN seal INTEGER NOT NULL DEFAULT 0;

-- The last seal whose calls were removed for their age: the chain begins behind it.
CREATE TABLE seal_anchor (
    one  INTEGER PRIMARY KEY CHECK (one = 1),
    seq  INTEGER NOT NULL,
    hash BLOB NOT NULL
) STRICT;

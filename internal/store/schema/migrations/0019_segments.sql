-- +goose Up
-- Calls are kept in blocks of many. first and last are the keys of a block, low and high its
-- seals; facts and letters tell what is not in it. A block that is not closed becomes part of a
-- larger one. Blocks follow each other in the chain: the seals of one are all before those
-- of the next.
CREATE TABLE segments (
    id      INTEGER PRIMARY KEY,
    closed  INTEGER NOT NULL,
    records INTEGER NOT NULL,
    first   INTEGER NOT NULL,
    last    INTEGER NOT NULL,
    low     INTEGER NOT NULL,
    high    INTEGER NOT NULL,
    facts   BLOB,
    head    BLOB NOT NULL,
    body    BLOB NOT NULL
) STRICT;
-- With all that is needed to pass over a block.
CREATE INDEX segments_last ON segments (last, id, first, low, records, facts);
CREATE INDEX segments_first ON segments (first, id, last, low, records, facts);
CREATE INDEX segments_low ON segments (low, id);
CREATE INDEX segments_open ON segments (low, id) WHERE closed = 0;

CREATE TABLE letters (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, words BLOB NOT NULL) STRICT;

-- How often refusals were repeated that are in a block already, until that is written there.
CREATE TABLE repeats (id INTEGER PRIMARY KEY, times INTEGER NOT NULL) STRICT;

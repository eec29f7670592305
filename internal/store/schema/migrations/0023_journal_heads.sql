-- +goose Up
-- Seals of the journals of all nodes, as every node of a cluster keeps them: whoever alters the
-- journal of one does not alter what the others have of it.
CREATE TABLE journal_heads (
    node      TEXT NOT NULL,
    chain     TEXT NOT NULL,
    seal      INTEGER NOT NULL,
    at        TEXT NOT NULL,
    hash      TEXT NOT NULL,
    key       TEXT NOT NULL,
    signature TEXT NOT NULL,
    kept      INTEGER NOT NULL,
    PRIMARY KEY (node, chain, seal)
) STRICT, WITHOUT ROWID;

-- Which chain of seals this database has: a node that starts afresh begins another one.
CREATE TABLE journal_chain (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    id  TEXT NOT NULL
) STRICT;

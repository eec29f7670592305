-- +goose Up
-- What an agent could use by the rules, from a time on until the next row: JSON, compressed.
CREATE TABLE reach_states (
    agent TEXT NOT NULL REFERENCES agents (id) ON DELETE CASCADE,
    at    INTEGER NOT NULL,
    state BLOB NOT NULL,
    PRIMARY KEY (agent, at)
) STRICT, WITHOUT ROWID;

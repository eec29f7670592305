-- +goose Up
CREATE TABLE budgets (
    id      TEXT PRIMARY KEY,
    name    TEXT NOT NULL UNIQUE,
    version INTEGER NOT NULL DEFAULT 1,
    allowance TEXT NOT NULL CHECK (json_valid(allowance)),
    note    TEXT NOT NULL,
    by_name TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT;

-- What is used of budgets, for each one for whom they count, in the window that began at a
-- time.
CREATE TABLE budget_use (
    budget TEXT NOT NULL REFERENCES budgets (id) ON DELETE CASCADE,
    whose  TEXT NOT NULL,
    began  INTEGER NOT NULL,
    calls  INTEGER NOT NULL,
    bytes  INTEGER NOT NULL,
    PRIMARY KEY (budget, whose)
) STRICT, WITHOUT ROWID;

-- +goose Up
-- What people want to be told of by mail, and when, as JSON; empty for nothing.
ALTER TABLE people ADD COLUMN notices TEXT NOT NULL DEFAULT '';

-- What somebody is to be told, from a moment on: what falls together becomes one mail.
CREATE TABLE mails_due (
    id      INTEGER PRIMARY KEY,
    person  TEXT NOT NULL REFERENCES people ON DELETE CASCADE,
    due     INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    subject TEXT NOT NULL,
    text    TEXT NOT NULL,
    tries   INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX mails_due_person ON mails_due (person, due);

-- What was told and is not to be told again.
CREATE TABLE mails_told (about TEXT PRIMARY KEY, at INTEGER NOT NULL) STRICT, WITHOUT ROWID;

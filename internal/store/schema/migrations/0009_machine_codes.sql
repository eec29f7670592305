-- +goose Up
-- One-time codes with which an assistant on another machine is enrolled.
CREATE TABLE machine_codes (
	id      TEXT PRIMARY KEY,
	hash    BLOB NOT NULL UNIQUE,
	agent   TEXT NOT NULL,
	owner   TEXT NOT NULL,
	by_id   TEXT NOT NULL REFERENCES people (id) ON DELETE CASCADE,
	hours   INTEGER NOT NULL,
	created INTEGER NOT NULL,
	expires INTEGER NOT NULL,
	used    INTEGER,
	origin  TEXT NOT NULL DEFAULT '',
	host    TEXT NOT NULL DEFAULT ''
);

-- +goose Up
-- Rules have names for people, and are altered in place.
ALTER TABLE rules ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE rules ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
UPDATE rules SET name = effect || '-' || (SELECT count(*) FROM rules o WHERE o.id <= rules.id);
CREATE UNIQUE INDEX rules_name ON rules (name);

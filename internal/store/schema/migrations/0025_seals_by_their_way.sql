-- +goose Up
-- In which way the hash of a seal was made: 0 for SHA-256, as all of before are, 1 for BLAKE2b-256.
ALTER TABLE seals ADD COLUMN way INTEGER NOT NULL DEFAULT 0;

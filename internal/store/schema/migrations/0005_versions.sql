-- +goose Up
-- How often a row was altered: whoever alters it says which state they saw.
ALTER TABLE servers ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE agents ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE people ADD COLUMN version INTEGER NOT NULL DEFAULT 1;

-- +goose Up
-- What puts a change back, as JSON; NULL where nothing does, or did already.
ALTER TABLE changes ADD COLUMN revert TEXT;

-- +goose Up
-- Servers that are started as local processes. args and env are JSON arrays of
-- texts; secret_env names the variable that carries the secret.
ALTER TABLE servers ADD COLUMN command TEXT NOT NULL DEFAULT '';
ALTER TABLE servers ADD COLUMN args TEXT NOT NULL DEFAULT '[]';
ALTER TABLE servers ADD COLUMN dir TEXT NOT NULL DEFAULT '';
ALTER TABLE servers ADD COLUMN env TEXT NOT NULL DEFAULT '[]';
ALTER TABLE servers ADD COLUMN secret_env TEXT NOT NULL DEFAULT '';

-- +goose Up
-- What else is kept of a server: options is a JSON object, document the OpenAPI
-- document of a REST API as it was given.
ALTER TABLE servers ADD COLUMN options TEXT NOT NULL DEFAULT '{}';
ALTER TABLE servers ADD COLUMN document TEXT NOT NULL DEFAULT '';
ALTER TABLE servers ADD COLUMN client_key TEXT REFERENCES secrets (id);

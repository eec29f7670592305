-- +goose Up
-- Whether an agent finds its tools by searching instead of having all of them listed, and
-- how large its context window is, in tokens; 0 for not known.
ALTER TABLE agents ADD COLUMN finder INTEGER NOT NULL DEFAULT 0;
ALTER TABLE agents ADD COLUMN context_tokens INTEGER NOT NULL DEFAULT 0;

-- +goose Up
-- Rules can hold calls, and say more than globs: their terms, as JSON.
CREATE TABLE rules_new (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL,
    version  INTEGER NOT NULL DEFAULT 1,
    effect   TEXT NOT NULL CHECK (effect IN ('admit', 'hold', 'refuse')),
    agent    TEXT NOT NULL,
    agent_id TEXT NOT NULL DEFAULT '',
    server   TEXT NOT NULL,
    tool     TEXT NOT NULL,
    terms    TEXT NOT NULL DEFAULT '{}' CHECK (json_valid(terms)),
    note     TEXT NOT NULL,
    by_name  TEXT NOT NULL,
    created  INTEGER NOT NULL
) STRICT;
INSERT INTO rules_new (id, name, version, effect, agent, agent_id, server, tool, note, by_name, created)
    SELECT id, name, version, effect, agent, agent_id, server, tool, note, by_name, created FROM rules;
DROP TABLE rules;
ALTER TABLE rules_new RENAME TO rules;
CREATE UNIQUE INDEX rules_name ON rules (name);

-- Words that maintainers put on agents, servers and tools, and the groups of people. The
-- source is '' for what somebody set, 'login' for what the identity provider says.
CREATE TABLE labels (
    kind    TEXT NOT NULL CHECK (kind IN ('agent', 'server', 'person', 'tool')),
    subject TEXT NOT NULL,
    tool    TEXT NOT NULL DEFAULT '',
    label   TEXT NOT NULL,
    source  TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (kind, subject, tool, label, source)
) STRICT, WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER labels_of_agents AFTER DELETE ON agents BEGIN
    DELETE FROM labels WHERE kind = 'agent' AND subject = old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER labels_of_servers AFTER DELETE ON servers BEGIN
    DELETE FROM labels WHERE kind IN ('server', 'tool') AND subject = old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER labels_of_people AFTER DELETE ON people BEGIN
    DELETE FROM labels WHERE kind = 'person' AND subject = old.id;
END;
-- +goose StatementEnd

-- Bundles of tools that rules can name as one.
CREATE TABLE bundles (
    id      TEXT PRIMARY KEY,
    name    TEXT NOT NULL UNIQUE,
    version INTEGER NOT NULL DEFAULT 1,
    note    TEXT NOT NULL,
    entries TEXT NOT NULL CHECK (json_valid(entries))
) STRICT;

-- What rules had to do with a call besides admitting it, as JSON.
ALTER TABLE calls ADD COLUMN control TEXT NOT NULL DEFAULT '';

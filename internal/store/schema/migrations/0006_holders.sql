-- +goose Up
-- Every secret has a holder: the team, a person or an agent. One that is not the
-- team's is known by its id; its name says so, and is none that anybody can choose.
ALTER TABLE secrets ADD COLUMN agent TEXT REFERENCES agents (id) ON DELETE CASCADE;
CREATE INDEX secrets_owner ON secrets (owner);
CREATE INDEX secrets_agent ON secrets (agent);

-- What agents were given of their own had a name made of the server's and the
-- agent's. One that a server names as well is the team's, and stays so.
UPDATE secrets SET agent = (
    SELECT g.agent FROM given g JOIN servers s ON s.id = g.server JOIN agents a ON a.id = g.agent
    WHERE g.secret = secrets.id AND (secrets.name = s.name || '-' || a.name
        OR (length(s.name || '-' || a.name) > 32 AND substr(secrets.name, 1, 20) = substr(s.name || '-' || a.name, 1, 20)))
    LIMIT 1)
WHERE owner IS NULL
    AND (SELECT count(*) FROM given g WHERE g.secret = secrets.id) = 1
    AND NOT EXISTS (SELECT 1 FROM servers s WHERE s.secret = secrets.id OR s.client_key = secrets.id
        OR instr(s.options, '"' || secrets.name || '"') > 0);

-- What nobody uses any more of their own goes.
DELETE FROM secrets WHERE owner IS NOT NULL AND id NOT IN (SELECT secret FROM given);
UPDATE secrets SET name = 'own:' || id WHERE owner IS NOT NULL OR agent IS NOT NULL;

-- A rule for one agent is for that agent, and not for whoever has its name next. A
-- pattern of names binds those agents only whose name somebody stands for who may
-- make rules.
ALTER TABLE rules ADD COLUMN agent_id TEXT NOT NULL DEFAULT '';
UPDATE rules SET agent_id = coalesce((SELECT a.id FROM agents a WHERE a.name = rules.agent), '');
ALTER TABLE agents ADD COLUMN confirmed INTEGER NOT NULL DEFAULT 1;

-- An authorization server that was found for a server is kept to.
ALTER TABLE servers ADD COLUMN issuer TEXT NOT NULL DEFAULT '';

-- Refused calls that repeat are one row with a count.
ALTER TABLE calls ADD COLUMN times INTEGER NOT NULL DEFAULT 1;

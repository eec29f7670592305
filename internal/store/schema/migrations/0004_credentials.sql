-- +goose Up
-- Of secrets: what could be read from the value without showing it (JSON), where
-- a value comes from that is not kept here, when it ends, and the value before,
-- which stays usable for a while after a rotation.
ALTER TABLE secrets ADD COLUMN facts TEXT NOT NULL DEFAULT '{}';
ALTER TABLE secrets ADD COLUMN source TEXT NOT NULL DEFAULT '';
ALTER TABLE secrets ADD COLUMN owner TEXT REFERENCES people (id) ON DELETE CASCADE;
ALTER TABLE secrets ADD COLUMN ends INTEGER;
ALTER TABLE secrets ADD COLUMN used INTEGER;
ALTER TABLE secrets ADD COLUMN prior_key_id TEXT;
ALTER TABLE secrets ADD COLUMN prior_data_key BLOB;
ALTER TABLE secrets ADD COLUMN prior_sealed BLOB;
ALTER TABLE secrets ADD COLUMN prior_until INTEGER;

-- A secret that one person or one agent uses at a server instead of the team's.
CREATE TABLE given (
    server TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    person TEXT REFERENCES people (id) ON DELETE CASCADE,
    agent  TEXT REFERENCES agents (id) ON DELETE CASCADE,
    secret TEXT NOT NULL REFERENCES secrets (id) ON DELETE CASCADE,
    CHECK ((person IS NULL) != (agent IS NULL))
) STRICT;
CREATE UNIQUE INDEX given_person ON given (server, person) WHERE person IS NOT NULL;
CREATE UNIQUE INDEX given_agent ON given (server, agent) WHERE agent IS NOT NULL;
CREATE INDEX given_secret ON given (secret);

-- An OAuth grant at a server: of the team (neither), of a person or of an agent.
-- sealed holds the tokens, the authority and who Bouncer is there, as JSON.
CREATE TABLE signins (
    id        TEXT PRIMARY KEY,
    server    TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    person    TEXT REFERENCES people (id) ON DELETE CASCADE,
    agent     TEXT REFERENCES agents (id) ON DELETE CASCADE,
    issuer    TEXT NOT NULL,
    scope     TEXT NOT NULL,
    note      TEXT NOT NULL DEFAULT '',
    ended     INTEGER,
    expires   INTEGER,
    created   INTEGER NOT NULL,
    refreshed INTEGER NOT NULL,
    key_id    TEXT NOT NULL,
    data_key  BLOB NOT NULL,
    sealed    BLOB NOT NULL
) STRICT;
CREATE UNIQUE INDEX signins_holder ON signins (server, coalesce(person, ''), coalesce(agent, ''));
CREATE INDEX signins_person ON signins (person);
CREATE INDEX signins_agent ON signins (agent);

-- Who Bouncer is at an authorization server where it registered itself.
CREATE TABLE clients (
    id       TEXT PRIMARY KEY,
    issuer   TEXT NOT NULL,
    redirect TEXT NOT NULL,
    created  INTEGER NOT NULL,
    key_id   TEXT NOT NULL,
    data_key BLOB NOT NULL,
    sealed   BLOB NOT NULL,
    UNIQUE (issuer, redirect)
) STRICT;

-- Programs that registered themselves to sign in to Bouncer for an agent.
CREATE TABLE apps (
    id        TEXT PRIMARY KEY,
    name      TEXT NOT NULL,
    redirects TEXT NOT NULL,
    created   INTEGER NOT NULL,
    used      INTEGER
) STRICT;

-- What a person agreed to: that a program speaks for an agent.
CREATE TABLE consents (
    id       TEXT PRIMARY KEY,
    app      TEXT NOT NULL,
    app_name TEXT NOT NULL,
    agent    TEXT NOT NULL REFERENCES agents (id) ON DELETE CASCADE,
    person   TEXT NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    resource TEXT NOT NULL,
    created  INTEGER NOT NULL,
    used     INTEGER,
    revoked  INTEGER,
    why      TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX consents_agent ON consents (agent);
CREATE INDEX consents_person ON consents (person);

-- Refresh tokens of a consent. A spent one that turns up again ends the consent.
CREATE TABLE refreshes (
    hash    BLOB PRIMARY KEY,
    consent TEXT NOT NULL REFERENCES consents (id) ON DELETE CASCADE,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL,
    spent   INTEGER
) STRICT, WITHOUT ROWID;
CREATE INDEX refreshes_consent ON refreshes (consent);

-- kind is pass, token (issued for a consent) or address (shown in the address
-- itself); audience is the address below the service that it opens.
ALTER TABLE passes ADD COLUMN kind TEXT NOT NULL DEFAULT 'pass';
ALTER TABLE passes ADD COLUMN consent TEXT REFERENCES consents (id) ON DELETE CASCADE;
ALTER TABLE passes ADD COLUMN audience TEXT NOT NULL DEFAULT '';
CREATE INDEX passes_consent ON passes (consent);

-- People who sign in elsewhere: subject is issuer and subject there; identity the
-- sealed tokens of that sign-in.
ALTER TABLE people ADD COLUMN subject TEXT;
ALTER TABLE people ADD COLUMN key_id TEXT;
ALTER TABLE people ADD COLUMN data_key BLOB;
ALTER TABLE people ADD COLUMN sealed BLOB;
CREATE UNIQUE INDEX people_subject ON people (subject) WHERE subject IS NOT NULL;

ALTER TABLE logins ADD COLUMN id TEXT NOT NULL DEFAULT '';
ALTER TABLE logins ADD COLUMN used INTEGER;
ALTER TABLE logins ADD COLUMN origin TEXT NOT NULL DEFAULT '';
UPDATE logins SET id = lower(hex(randomblob(13)));

CREATE TABLE invitations (
    id      TEXT PRIMARY KEY,
    hash    BLOB NOT NULL UNIQUE,
    role    TEXT NOT NULL CHECK (role IN ('admin', 'maintainer', 'member', 'auditor')),
    note    TEXT NOT NULL,
    by_name TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL,
    taken   TEXT NOT NULL DEFAULT ''
) STRICT;

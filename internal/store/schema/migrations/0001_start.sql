-- +goose Up
-- Times are milliseconds since 1970 in UTC. Ids are ULIDs.
CREATE TABLE people (
    id          TEXT PRIMARY KEY,
    name        TEXT NOT NULL UNIQUE,
    full_name   TEXT NOT NULL,
    role        TEXT NOT NULL CHECK (role IN ('admin', 'maintainer', 'member', 'auditor')),
    password    TEXT NOT NULL,
    must_change INTEGER NOT NULL DEFAULT 0,
    created     INTEGER NOT NULL
) STRICT;

-- A console session or a command-line token: only the hash of what is shown.
CREATE TABLE logins (
    hash    BLOB PRIMARY KEY,
    person  TEXT NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    kind    TEXT NOT NULL CHECK (kind IN ('console', 'token')),
    label   TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE secrets (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    kind     TEXT NOT NULL,
    key_id   TEXT NOT NULL,
    data_key BLOB NOT NULL,
    sealed   BLOB NOT NULL,
    created  INTEGER NOT NULL,
    rotated  INTEGER
) STRICT;

CREATE TABLE servers (
    id        TEXT PRIMARY KEY,
    name      TEXT NOT NULL UNIQUE,
    url       TEXT NOT NULL,
    transport TEXT NOT NULL,
    secret    TEXT REFERENCES secrets (id),
    paused    INTEGER NOT NULL DEFAULT 0,
    created   INTEGER NOT NULL
) STRICT;
CREATE INDEX servers_secret ON servers (secret);

-- One recorded state of a server's tool list; the newest one is in force.
CREATE TABLE editions (
    id     TEXT PRIMARY KEY,
    server TEXT NOT NULL REFERENCES servers (id) ON DELETE CASCADE,
    at     INTEGER NOT NULL,
    digest TEXT NOT NULL,
    tools  BLOB NOT NULL
) STRICT;
CREATE INDEX editions_server ON editions (server, id);

CREATE TABLE agents (
    id      TEXT PRIMARY KEY,
    name    TEXT NOT NULL UNIQUE,
    kind    TEXT NOT NULL,
    owner   TEXT REFERENCES people (id),
    paused  INTEGER NOT NULL DEFAULT 0,
    created INTEGER NOT NULL
) STRICT;
CREATE INDEX agents_owner ON agents (owner);

CREATE TABLE passes (
    id      TEXT PRIMARY KEY,
    agent   TEXT NOT NULL REFERENCES agents (id) ON DELETE CASCADE,
    hash    BLOB NOT NULL UNIQUE,
    label   TEXT NOT NULL,
    hint    TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL,
    revoked INTEGER,
    used    INTEGER
) STRICT;
CREATE INDEX passes_agent ON passes (agent);

CREATE TABLE rules (
    id      TEXT PRIMARY KEY,
    effect  TEXT NOT NULL CHECK (effect IN ('admit', 'refuse')),
    agent   TEXT NOT NULL,
    server  TEXT NOT NULL,
    tool    TEXT NOT NULL,
    note    TEXT NOT NULL,
    by_name TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT;

-- The journal. The id is the upper half of the call's ULID, so the table is in
-- the order of time and needs no further index to be read from its end.
CREATE TABLE calls (
    id        INTEGER PRIMARY KEY,
    agent     TEXT NOT NULL,
    person    TEXT NOT NULL,
    server    TEXT NOT NULL,
    tool      TEXT NOT NULL,
    decision  TEXT NOT NULL,
    rule      TEXT NOT NULL,
    outcome   TEXT NOT NULL,
    error     TEXT NOT NULL,
    us        INTEGER NOT NULL,
    bytes_in  INTEGER NOT NULL,
    bytes_out INTEGER NOT NULL,
    session   TEXT NOT NULL,
    cut       INTEGER NOT NULL,
    arguments TEXT NOT NULL,
    result    TEXT NOT NULL
) STRICT;

CREATE TABLE changes (
    id      TEXT PRIMARY KEY,
    person  TEXT NOT NULL,
    what    TEXT NOT NULL,
    subject TEXT NOT NULL,
    before  TEXT NOT NULL,
    after   TEXT NOT NULL
) STRICT;

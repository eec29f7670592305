package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

const agentQuery = `SELECT a.id, a.name, a.kind, coalesce(p.name, ''), a.paused, a.created, a.version, a.confirmed, a.finder, a.context_tokens,
	(SELECT count(*) FROM passes x WHERE x.agent = a.id AND x.revoked IS NULL AND x.expires > ?1),
	(SELECT max(x.used) FROM passes x WHERE x.agent = a.id),
	(SELECT max(x.expires) FROM passes x WHERE x.agent = a.id AND x.kind = 'pass' AND x.revoked IS NULL AND x.expires > ?1)
	FROM agents a LEFT JOIN people p ON p.id = a.owner`

func scanAgent(r scanner) (v team.Agent, err error) {
	var created int64
	var seen, ends sql.NullInt64
	err = r.Scan(
		&v.ID, &v.Name, &v.Kind, &v.Owner, &v.Paused, &created, &v.Version, &v.Confirmed, &v.Finder, &v.ContextTokens, &v.Passes,
		&seen, &ends,
	)
	v.Created, v.Seen, v.Expires = fromMS(created), fromNull(seen), fromNull(ends)
	return v, err
}

// Agents returns every agent, by name.
func (s *Store) Agents(ctx context.Context, now time.Time) ([]team.Agent, error) {
	return list(ctx, s.read, scanAgent, agentQuery+` ORDER BY a.name`, ms(now))
}

// AgentByName returns one agent.
func (s *Store) AgentByName(ctx context.Context, name string, now time.Time) (team.Agent, error) {
	return first(ctx, s.read, scanAgent, agentQuery+` WHERE a.name = ?2`, ms(now), name)
}

// AddAgent stores an agent; its owner is named by v.Owner.
func (t AgentTx) AddAgent(v team.Agent) error {
	return t.exec(`INSERT INTO agents (id, name, kind, owner, paused, created, confirmed, finder, context_tokens)
		VALUES (?, ?, ?, (SELECT id FROM people WHERE name = ?), ?, ?, ?, ?, ?)`,
		v.ID, v.Name, v.Kind, v.Owner, v.Paused, ms(v.Created), v.Confirmed, v.Finder, v.ContextTokens)
}

// SetAgent replaces what can be altered of an agent as it was read: ErrAltered when
// somebody else was quicker.
func (t AgentTx) SetAgent(v team.Agent) error {
	return t.alter("agents", v.ID, `UPDATE agents SET kind = ?, paused = ?, owner = (SELECT id
		FROM people WHERE name = ?), confirmed = ?, finder = ?, context_tokens = ?,
		version = version + 1 WHERE id = ? AND version = ?`,
		v.Kind, v.Paused, v.Owner, v.Confirmed, v.Finder, v.ContextTokens, v.ID, v.Version)
}

// RemoveAgent removes an agent with its passes and with the rules that admit something
// for it alone. What is refused to it stays refused to whoever takes its name.
func (t AgentTx) RemoveAgent(id string) error {
	if err := t.exec(`DELETE FROM rules WHERE agent_id = ? AND effect <> 'refuse'`, id); err != nil {
		return err
	}
	return t.one(`DELETE FROM agents WHERE id = ?`, id)
}

// DependOnAgent tells what hangs on an agent, and what becomes of it when the agent is
// removed.
func (s *Store) DependOnAgent(ctx context.Context, id string, now time.Time) ([]team.Dependent, error) {
	return dependents(
		ctx,
		s,
		dependent{"passes", "end at once", `SELECT coalesce(nullif(label, ''), '…' || hint) FROM passes
			WHERE agent = ? AND kind = 'pass' AND revoked IS NULL AND expires > ?`, []any{id, ms(now)}},
		dependent{"rules for it alone", "are removed", `SELECT name FROM rules WHERE agent_id = ? AND effect <> 'refuse'`, []any{id}},
		dependent{
			"refusals for it alone", "stay, for whoever takes the name",
			`SELECT name FROM rules WHERE agent_id = ? AND effect = 'refuse'`, []any{id},
		},
		dependent{
			"credentials of its own", "are removed",
			`SELECT s.name FROM given g JOIN servers s ON s.id = g.server WHERE g.agent = ?`, []any{id},
		},
		dependent{
			"sign-ins of its own", "are removed",
			`SELECT s.name FROM signins g JOIN servers s ON s.id = g.server WHERE g.agent = ?`, []any{id},
		},
		dependent{
			"programs that speak for it",
			"are shut out",
			`SELECT app_name FROM consents WHERE agent = ? AND revoked IS NULL`,
			[]any{id},
		},
	)
}

// dependent is one kind of things that hang on something, and how their names are found.
type dependent struct {
	kind, becomes string
	query         string
	args          []any
}

// dependents runs the queries, and leaves out what there is none of.
func dependents(ctx context.Context, s *Store, kinds ...dependent) ([]team.Dependent, error) {
	out := []team.Dependent{}
	for _, k := range kinds {
		names, err := list(ctx, s.read, func(r scanner) (name string, err error) {
			return name, r.Scan(&name)
		}, k.query+" ORDER BY 1", k.args...)
		if err != nil {
			return nil, fmt.Errorf("look for %s: %w", k.kind, err)
		}
		if len(names) > 0 {
			out = append(out, team.Dependent{Kind: k.kind, Names: names, Becomes: k.becomes, Stays: strings.HasPrefix(k.becomes, "stay")})
		}
	}
	return out, nil
}

// StoredPass is a pass with what the door compares.
type StoredPass struct {
	team.Pass
	AgentID  string
	Hash     [32]byte // SHA-256 of the token
	Consent  string   // that an access token was issued for
	Audience string   // address below the service that it opens; "" for all
}

func scanPass(r scanner) (v StoredPass, err error) {
	var created, expires int64
	var revoked, used sql.NullInt64
	var hash []byte
	err = r.Scan(
		&v.ID, &v.AgentID, &v.Agent, &v.Kind, &v.Consent, &v.Audience, &hash, &v.Label, &v.Hint, &created, &expires, &revoked,
		&used,
	)
	copy(v.Hash[:], hash)
	v.Created, v.Expires, v.Revoked, v.Used = fromMS(created), fromMS(expires), fromNull(revoked), fromNull(used)
	return v, err
}

// Passes returns the passes of all agents, newest first.
func (s *Store) Passes(ctx context.Context) ([]StoredPass, error) {
	return list(
		ctx,
		s.read,
		scanPass,
		`SELECT p.id, p.agent, a.name, p.kind, coalesce(p.consent, ''), p.audience, p.hash, p.label, p.hint, p.created, p.expires, p.revoked, p.used
		FROM passes p JOIN agents a ON a.id = p.agent ORDER BY p.id DESC`,
	)
}

// AddPass stores a pass.
func (t AgentTx) AddPass(v StoredPass) error {
	var consent any
	if v.Consent != "" {
		consent = v.Consent
	}
	return t.exec(
		`INSERT INTO passes (id, agent, kind, consent, audience, hash, label, hint, created, expires) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		v.ID, v.AgentID, v.Kind, consent, v.Audience,
		v.Hash[:],
		v.Label, v.Hint, ms(v.Created), ms(v.Expires),
	)
}

// RevokePass ends a pass of an agent.
func (t AgentTx) RevokePass(agentID, id string, at time.Time) error {
	return t.one(`UPDATE passes SET revoked = ? WHERE id = ? AND agent = ? AND revoked IS NULL`, ms(at), id, agentID)
}

// EndPasses ends all passes of an agent, and what was agreed for it.
func (t AgentTx) EndPasses(agentID string, at time.Time) error {
	if err := t.exec(`UPDATE passes SET revoked = ? WHERE agent = ? AND revoked IS NULL`, ms(at), agentID); err != nil {
		return err
	}
	if err := t.exec(`DELETE FROM refreshes WHERE consent IN (SELECT id FROM consents WHERE agent = ?)`, agentID); err != nil {
		return err
	}
	return t.exec(
		`UPDATE consents SET revoked = ?, why = 'the agent has another owner' WHERE agent = ? AND revoked IS NULL`,
		ms(at),
		agentID,
	)
}

// PassUsed notes when a pass was last shown.
func (t AgentTx) PassUsed(id string, at time.Time) error {
	return t.exec(`UPDATE passes SET used = max(coalesce(used, 0), ?) WHERE id = ?`, ms(at), id)
}

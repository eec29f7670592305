package store

import (
	"context"
	"encoding/json"
	"fmt"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
)

// RuleTx alters rules, labels and bundles.
type RuleTx struct{ *transaction }

// Control is the part of the state that says who may do what.
type Control struct{ *Store }

// Control returns that part.
func (s *Store) Control() Control { return Control{s} }

// Rules returns all rules in the order they were made.
func (s Control) Rules(ctx context.Context) ([]team.Rule, error) {
	return list(ctx, s.read, func(r scanner) (v team.Rule, err error) {
		var created int64
		var terms string
		err = r.Scan(&v.ID, &v.Name, &v.Version, &v.Effect, &v.Agent, &v.AgentID, &v.Server, &v.Tool, &terms, &v.Note, &v.By, &created)
		v.Created = fromMS(created)
		if err == nil {
			err = json.Unmarshal([]byte(terms), &v.Terms)
		}
		return v, err
	}, `SELECT id, name, version, effect, agent, agent_id, server, tool, terms, note, by_name, created FROM rules ORDER BY id`)
}

// AddRule stores a rule.
func (t RuleTx) AddRule(v team.Rule) error {
	terms, err := json.Marshal(v.Terms)
	if err != nil {
		return fmt.Errorf("write the terms of a rule: %w", err)
	}
	return t.exec(`INSERT INTO rules (id, name, effect, agent, agent_id, server, tool, terms, note, by_name, created)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		v.ID, v.Name, v.Effect, v.Agent, v.AgentID, v.Server, v.Tool, string(terms), v.Note, v.By, ms(v.Created))
}

// UpdateRule stores what was altered, if the rule still has the version that it was
// read with.
func (t RuleTx) UpdateRule(v team.Rule) error {
	terms, err := json.Marshal(v.Terms)
	if err != nil {
		return fmt.Errorf("write the terms of a rule: %w", err)
	}
	return t.alter(
		"rules",
		v.ID,
		`UPDATE rules SET name = ?, effect = ?, agent = ?, agent_id = ?, server = ?, tool = ?, terms = ?, note = ?,
		version = version + 1 WHERE id = ? AND version = ?`,
		v.Name, v.Effect, v.Agent, v.AgentID, v.Server, v.Tool, string(terms), v.Note, v.ID, v.Version,
	)
}

// RemoveRule removes a rule.
func (t RuleTx) RemoveRule(id string) error { return t.one(`DELETE FROM rules WHERE id = ?`, id) }

// Labels returns every label, tag and group.
func (s Control) Labels(ctx context.Context) ([]team.Label, error) {
	return list(ctx, s.read, func(r scanner) (v team.Label, err error) {
		return v, r.Scan(&v.Kind, &v.Subject, &v.Tool, &v.Label, &v.Source)
	}, `SELECT kind, subject, tool, label, source FROM labels ORDER BY kind, subject, tool, label, source`)
}

// GroupsOf returns the groups that a person is in.
func (s Control) GroupsOf(ctx context.Context, personID string) ([]string, error) {
	return list(ctx, s.read, func(r scanner) (label string, err error) { return label, r.Scan(&label) },
		`SELECT DISTINCT label FROM labels WHERE kind = 'person' AND subject = ? ORDER BY label`, personID)
}

// SetLabels replaces the labels that something has from one source.
func (t RuleTx) SetLabels(kind, subject, tool, source string, labels []string) error {
	err := t.exec(`DELETE FROM labels WHERE kind = ? AND subject = ? AND tool = ? AND source = ?`, kind, subject, tool, source)
	if err != nil {
		return err
	}
	for _, label := range labels {
		err := t.exec(`INSERT OR IGNORE INTO labels (kind, subject, tool, label, source) VALUES (?, ?, ?, ?, ?)`,
			kind, subject, tool, label, source)
		if err != nil {
			return err
		}
	}
	return nil
}

// SetLabelsOf is SetLabels for what somebody sets, by the name of what has the labels: for
// what comes in the same transaction.
func (t RuleTx) SetLabelsOf(kind, name, tool string, labels []string) error {
	table := map[string]string{team.OnAgent: "agents", team.OnServer: "servers", team.OnTool: "servers", team.OnPerson: "people"}[kind]
	var id string
	if err := t.tx.QueryRowContext(t.ctx, `SELECT id FROM `+table+` WHERE name = ?`, name).Scan(&id); err != nil {
		return fmt.Errorf("look for %s %s: %w", kind, name, err)
	}
	return t.SetLabels(kind, id, tool, "", labels)
}

// Bundles returns every bundle, by name.
func (s Control) Bundles(ctx context.Context) ([]team.Bundle, error) {
	return list(ctx, s.read, func(r scanner) (v team.Bundle, err error) {
		var entries string
		if err = r.Scan(&v.ID, &v.Name, &v.Version, &v.Note, &entries); err == nil {
			err = json.Unmarshal([]byte(entries), &v.Entries)
		}
		return v, err
	}, `SELECT id, name, version, note, entries FROM bundles ORDER BY name`)
}

// AddBundle stores a bundle.
func (t RuleTx) AddBundle(v team.Bundle) error {
	entries, err := writeEntries(v.Entries)
	if err != nil {
		return err
	}
	return t.exec(`INSERT INTO bundles (id, name, note, entries) VALUES (?, ?, ?, ?)`, v.ID, v.Name, v.Note, entries)
}

// UpdateBundle stores what was altered, if the bundle still has the version that it was
// read with.
func (t RuleTx) UpdateBundle(v team.Bundle) error {
	entries, err := writeEntries(v.Entries)
	if err != nil {
		return err
	}
	return t.alter("bundles", v.ID, `UPDATE bundles SET note = ?, entries = ?, version = version + 1 WHERE id = ? AND version = ?`,
		v.Note, entries, v.ID, v.Version)
}

// RemoveBundle removes a bundle.
func (t RuleTx) RemoveBundle(id string) error { return t.one(`DELETE FROM bundles WHERE id = ?`, id) }

func writeEntries(entries []rules.Entry) (string, error) {
	raw, err := json.Marshal(entries)
	if err != nil {
		return "", fmt.Errorf("write a bundle: %w", err)
	}
	return string(raw), nil
}

package agents

import (
	"context"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/token"
)

// Passes returns an agent's passes, newest first.
func (svc *Service) Passes(ctx context.Context, by team.Person, agent string) ([]team.Pass, error) {
	a, err := svc.Agent(ctx, by, agent)
	if err != nil {
		return nil, err
	}
	all, err := svc.store.Passes(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	out := []team.Pass{}
	for _, p := range all {
		if p.State = p.StateAt(now); p.Kind == team.PassToken && p.State == "expired" {
			continue // it was renewed, or will be
		}
		if p.AgentID == a.ID {
			out = append(out, p.Pass)
		}
	}
	return out, nil
}

// NewPass makes a pass for an agent, valid for some days and hours. The token is
// returned once and never again. A pass in an address opens that address only.
func (svc *Service) NewPass(ctx context.Context, by team.Person, agent string, n apitype.NewPass) (team.Pass, string, error) {
	label, inAddress := n.Label, n.InAddress
	a, err := svc.Agent(ctx, by, agent)
	if err != nil {
		return team.Pass{}, "", err
	}
	if err := mayActAs(by, a); err != nil {
		return team.Pass{}, "", err
	}
	hours := n.Days*24 + n.Hours
	if n.Days < 0 || n.Hours < 0 || hours < 1 || n.Days > MaxPassDays || hours > MaxPassDays*24 {
		return team.Pass{}, "", &team.FieldError{
			Field: "days",
			Why:   fmt.Sprintf("is %s; a pass is valid for an hour to %d days", span.Text(time.Duration(hours)*time.Hour), MaxPassDays),
		}
	}
	if len(label) > maxLabel {
		return team.Pass{}, "", &team.FieldError{Field: "label", Why: "is longer than 100 characters"}
	}
	if inAddress && !svc.o.AddressPasses {
		return team.Pass{}, "", &team.FieldError{
			Field: "inAddress",
			Why:   "is off here: an address with a pass in it is easily seen by others; an admin can allow it (setting address-passes)",
		}
	}
	have, err := svc.Passes(ctx, by, agent)
	if err != nil {
		return team.Pass{}, "", err
	}
	valid := 0
	for _, p := range have {
		if p.State == "valid" && p.Kind != team.PassToken {
			valid++
		}
	}
	if valid >= maxPasses {
		return team.Pass{}, "", &team.ConflictError{
			Field: "agent",
			Why:   fmt.Sprintf("agent %s has %d valid passes already", agent, valid),
			Hint:  "revoke some first",
		}
	}
	kind := team.PassPlain
	if inAddress {
		kind = team.PassInAddress
	}
	pass := token.New(token.PassPrefix)
	now := time.Now().UTC()
	p := store.StoredPass{AgentID: a.ID, Hash: token.Hash(pass), Pass: team.Pass{
		ID:      team.NewID(),
		Agent:   a.Name,
		Kind:    kind,
		Label:   strings.TrimSpace(label),
		Hint:    pass[len(pass)-4:],
		Created: now,
		Expires: now.Add(time.Duration(hours) * time.Hour),
		State:   "valid",
	}}
	err = svc.registry.Write(
		ctx,
		registry.Change{
			By:      by,
			What:    "pass.make",
			Subject: agent,
			After:   fmt.Sprintf("%s until %s", nameOf(p.Pass), p.Expires.Format(time.DateOnly)),
			Topics:  []string{"agents"},
		},
		func(tx *store.Tx) error { return tx.AddPass(p) },
	)
	if err != nil {
		return team.Pass{}, "", err
	}
	return p.Pass, pass, nil
}

// mayActAs reports whether somebody may hold a pass for an agent. Whoever holds
// one acts with the sign-ins of the agent's owner, which are nobody else's: not
// even an admin's.
func mayActAs(by team.Person, a team.Agent) error {
	if access.May(by, access.SpeakForAgents, a.Owner) {
		return nil
	}
	return &team.FieldError{
		Field: "agent",
		Why: fmt.Sprintf(
			"belongs to %s, and whoever holds a pass for it acts with the sign-ins of %s; only %s can make one",
			a.Owner,
			a.Owner,
			a.Owner,
		),
	}
}

// RevokePass ends a pass; the very next call with it is refused. With the token of a
// program ends what was agreed to.
func (svc *Service) RevokePass(ctx context.Context, by team.Person, agent, id string) error {
	a, err := svc.kept(ctx, by, agent)
	if err != nil {
		return err
	}
	all, err := svc.store.Passes(ctx)
	if err != nil {
		return fmt.Errorf("read the passes: %w", err)
	}
	consent, what := "", id
	for _, p := range all {
		if p.ID == id && p.AgentID == a.ID {
			consent, what = p.Consent, nameOf(p.Pass)
		}
	}
	now := time.Now()
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "pass.revoke", Subject: agent, Before: what, Topics: []string{"agents"}},
		func(tx *store.Tx) error {
			if err := tx.RevokePass(a.ID, id, now); err != nil || consent == "" {
				return err
			}
			// The program would simply get another token.
			return tx.RevokeConsent(consent, "its token was revoked", now)
		},
	)
	return store.Explain(err, "valid pass", id)
}

// nameOf tells a pass apart for people.
func nameOf(p team.Pass) string { return strings.TrimSpace(p.Label + " …" + p.Hint) }

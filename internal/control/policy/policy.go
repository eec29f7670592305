// Package policy keeps the rules and tells what they amount to: the reach of an
// agent, as the snapshot in force has it. Deciding is the matter of core/rules.
package policy

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Service keeps the rules. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	agents   *agents.Service
}

// New returns the service.
func New(s *store.Store, r *registry.Registry, a *agents.Service) *Service {
	return &Service{store: s, registry: r, agents: a}
}

// Rules returns all rules.
func (svc *Service) Rules(ctx context.Context) ([]team.Rule, error) { return svc.store.Rules(ctx) }

// AddRule adds a rule; it is in force when this returns.
func (svc *Service) AddRule(ctx context.Context, by team.Person, n apitype.NewRule) (team.Rule, error) {
	r := team.Rule{
		ID:      team.NewID(),
		Effect:  n.Effect,
		Agent:   n.Agent,
		Server:  n.Server,
		Tool:    n.Tool,
		Note:    strings.TrimSpace(n.Note),
		By:      by.Name,
		Created: time.Now().UTC(),
	}
	if err := coreRule(r).Check(); err != nil {
		var fe *rules.FieldError
		if errors.As(err, &fe) {
			return r, &team.FieldError{Field: fe.Field, Why: fe.Why}
		}
		return r, err
	}
	agent, err := svc.store.AgentByName(ctx, r.Agent, time.Now())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return r, fmt.Errorf("look for the agent of a rule: %w", err)
	}
	r.AgentID = agent.ID
	have, err := svc.store.Rules(ctx)
	if err != nil {
		return r, fmt.Errorf("read the rules: %w", err)
	}
	for _, h := range have {
		if h.Effect == r.Effect && h.Agent == r.Agent && h.AgentID == r.AgentID && h.Server == r.Server && h.Tool == r.Tool {
			return r, &team.ConflictError{Field: "effect", Why: "rule " + h.ID + " says the same already", Hint: "nothing needs to be done"}
		}
	}
	return r, svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "rule.add", Subject: r.ID, After: coreRule(r).Describe(), Topics: []string{"rules"}},
		func(tx *store.Tx) error { return tx.AddRule(r) },
	)
}

// RemoveRule removes a rule; it is out of force when this returns.
func (svc *Service) RemoveRule(ctx context.Context, by team.Person, id string) error {
	have, err := svc.store.Rules(ctx)
	if err != nil {
		return err
	}
	for _, h := range have {
		if strings.EqualFold(h.ID, id) {
			return svc.registry.Write(
				ctx,
				registry.Change{By: by, What: "rule.remove", Subject: h.ID, Before: coreRule(h).Describe(), Topics: []string{"rules"}},
				func(tx *store.Tx) error { return tx.RemoveRule(h.ID) },
			)
		}
	}
	return &team.NotFoundError{Kind: "rule", Name: id}
}

func coreRule(r team.Rule) rules.Rule {
	return rules.Rule{
		ID: r.ID, Effect: rules.Effect(r.Effect), Agent: r.Agent, AgentID: r.AgentID, Server: r.Server, Tool: r.Tool, Note: r.Note, By: r.By,
	}
}

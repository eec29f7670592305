// Package agents keeps the agents, their owners and their passes. Whoever holds a
// pass acts with the sign-ins of the agent's owner, so that only the owner makes
// one, and a change of owner ends them all.
package agents

import (
	"context"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Options configure a Service.
type Options struct {
	// AddressPasses allows passes that are part of an address.
	AddressPasses bool
}

// Service keeps the agents and their passes. It is safe for concurrent use.
type Service struct {
	o        Options
	store    *store.Store
	registry *registry.Registry
}

// New returns the service.
func New(s *store.Store, r *registry.Registry, o Options) *Service {
	return &Service{o: o, store: s, registry: r}
}

// Bounds on passes.
const (
	MaxPassDays = 366
	maxPasses   = 20 // valid at a time, for one agent
	maxLabel    = 100
)

// Agents returns the agents that the person may see.
func (svc *Service) Agents(ctx context.Context, by team.Person) ([]team.Agent, error) {
	svc.registry.FlushUse(ctx)
	list, err := svc.store.Agents(ctx, time.Now())
	return slices.DeleteFunc(list, func(a team.Agent) bool { return !access.May(by, access.SeeAgents, a.Owner) }), err
}

// Agent returns one agent that the person may see; another one is not found.
func (svc *Service) Agent(ctx context.Context, by team.Person, name string) (team.Agent, error) {
	svc.registry.FlushUse(ctx)
	a, err := svc.store.AgentByName(ctx, name, time.Now())
	if err == nil && !access.May(by, access.SeeAgents, a.Owner) {
		err = store.ErrNotFound
	}
	return a, store.Explain(err, "agent", name)
}

// kept returns one agent that the person may alter.
func (svc *Service) kept(ctx context.Context, by team.Person, name string) (team.Agent, error) {
	a, err := svc.Agent(ctx, by, name)
	if err == nil && !access.May(by, access.KeepAgents, a.Owner) {
		err = &team.FieldError{Field: "name", Why: "names an agent that your role does not let you alter"}
	}
	return a, err
}

// AddAgent adds an agent. Members add agents of their own only.
func (svc *Service) AddAgent(ctx context.Context, by team.Person, n apitype.NewAgent) (team.Agent, error) {
	if err := team.CheckName("name", n.Name); err != nil {
		return team.Agent{}, err
	}
	if n.Kind == "" {
		n.Kind = "assistant"
	}
	if err := team.CheckName("kind", n.Kind); err != nil {
		return team.Agent{}, err
	}
	if err := svc.checkOwner(ctx, by, n.Owner); err != nil {
		return team.Agent{}, err
	}
	if err := svc.checkRoom(ctx, n.Owner); err != nil {
		return team.Agent{}, err
	}
	a := team.Agent{
		ID: team.NewID(), Name: n.Name, Kind: n.Kind, Owner: n.Owner, Created: time.Now().UTC(),
		// Whoever may make rules stands for the name by choosing it.
		Confirmed: mayConfirm(by),
	}
	err := svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "agent.add", Subject: a.Name, After: describeAgent(a), Topics: []string{"agents"}},
		func(tx *store.Tx) error { return tx.AddAgent(a) },
	)
	return a, store.Explain(err, "agent", a.Name)
}

// maxAgents bounds the agents of one person.
const maxAgents = 200

// checkRoom checks that somebody may have another agent.
func (svc *Service) checkRoom(ctx context.Context, owner string) error {
	if owner == "" {
		return nil
	}
	all, err := svc.store.Agents(ctx, time.Now())
	if err != nil {
		return fmt.Errorf("read the agents: %w", err)
	}
	have := 0
	for _, a := range all {
		if a.Owner == owner {
			have++
		}
	}
	if have >= maxAgents {
		return &team.ConflictError{
			Field: "owner",
			Why:   fmt.Sprintf("%s has %d agents already", owner, have),
			Hint:  "remove some first (bouncer agent list)",
		}
	}
	return nil
}

func (svc *Service) checkOwner(ctx context.Context, by team.Person, owner string) error {
	if !access.May(by, access.KeepAgents, owner) {
		return &team.FieldError{Field: "owner", Why: fmt.Sprintf("must be %s: members keep agents of their own only", by.Name)}
	}
	if owner == "" {
		return nil
	}
	_, err := svc.store.PersonByName(ctx, owner)
	return store.Explain(err, "person", owner)
}

func describeAgent(a team.Agent) string {
	text := fmt.Sprintf("%s, owner %q, paused %v", a.Kind, a.Owner, a.Paused)
	if !a.Confirmed {
		text += ", name not confirmed"
	}
	return text
}

// mayConfirm reports whether somebody can stand for an agent's name. Members choose
// the names of their agents, and read which names rules are for.
func mayConfirm(by team.Person) bool { return access.May(by, access.ConfirmAgents, "") }

// UpdateAgent alters an agent.
func (svc *Service) UpdateAgent(ctx context.Context, by team.Person, name string, p apitype.AgentPatch) (team.Agent, error) {
	a, err := svc.kept(ctx, by, name)
	if err != nil {
		return a, err
	}
	if p.Version != nil && *p.Version != a.Version {
		return a, store.Explain(store.ErrAltered, "agent", name)
	}
	before, revert := describeAgent(a), revertTo(a)
	if p.Kind != nil {
		if err := team.CheckName("kind", *p.Kind); err != nil {
			return a, err
		}
		a.Kind = *p.Kind
	}
	moved := false
	if p.Owner != nil {
		if err := svc.checkOwner(ctx, by, *p.Owner); err != nil {
			return a, err
		}
		moved = a.Owner != *p.Owner
		a.Owner = *p.Owner
	}
	if p.Paused != nil {
		a.Paused = *p.Paused
	}
	if p.Confirmed != nil {
		if !mayConfirm(by) {
			return a, &team.NotAllowedError{
				Why: fmt.Sprintf(
					"your role, %s, cannot confirm a name: that lets rules admit the agent that name agents by a pattern",
					by.Role,
				),
				Hint: "ask an admin or a maintainer to run: bouncer agent confirm " + name,
			}
		}
		a.Confirmed = *p.Confirmed
	}
	if p.Finder != nil {
		a.Finder = *p.Finder
	}
	if p.ContextTokens != nil {
		a.ContextTokens = *p.ContextTokens
		if err := team.CheckContextTokens(a.ContextTokens); err != nil {
			return a, err
		}
	}
	err = svc.registry.Write(
		ctx,
		registry.Change{
			By: by, What: "agent.update", Subject: name, Before: before, After: describeAgent(a), Topics: []string{"agents"}, Revert: revert,
		},
		func(tx *store.Tx) error {
			if moved {
				// Passes made before would act with the new owner's sign-ins.
				if err := tx.EndPasses(a.ID, time.Now()); err != nil {
					return fmt.Errorf("end the passes of agent %s: %w", name, err)
				}
				// What it was given of its own was given by, or for, the owner before.
				if err := tx.DropHeld(a.ID); err != nil {
					return fmt.Errorf("drop what agent %s has of its own: %w", name, err)
				}
			}
			return tx.SetAgent(a)
		},
	)
	a.Version++
	return a, store.Explain(err, "agent", name)
}

// revertTo is what makes an agent again what it is before an alteration. What a change
// of the owner ends stays ended.
func revertTo(a team.Agent) *team.Revert {
	back := apitype.AgentPatch{Kind: &a.Kind, Owner: &a.Owner, Paused: &a.Paused, Confirmed: &a.Confirmed,
		Finder: &a.Finder, ContextTokens: &a.ContextTokens}
	return registry.Revert(team.RevertAgent, a.ID, a.Name, a.Version+1, back)
}

// Dependents tells what hangs on an agent, and what becomes of it when it is removed.
func (svc *Service) Dependents(ctx context.Context, by team.Person, name string) ([]team.Dependent, error) {
	a, err := svc.kept(ctx, by, name)
	if err != nil {
		return nil, err
	}
	return svc.store.DependOnAgent(ctx, a.ID, time.Now())
}

// RemoveAgent removes an agent and its passes.
func (svc *Service) RemoveAgent(ctx context.Context, by team.Person, name string) error {
	a, err := svc.kept(ctx, by, name)
	if err != nil {
		return err
	}
	return svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "agent.remove", Subject: name, Before: describeAgent(a), Topics: []string{"agents"}},
		func(tx *store.Tx) error { return tx.RemoveAgent(a.ID) },
	)
}

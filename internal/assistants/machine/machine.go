// Package machine lets an assistant on another machine be enrolled by a one-time code:
// whoever runs the command there needs no login. A code makes an agent of the person who
// made the code, or of the team, with one pass; it is made only by somebody who may make
// that pass themselves, so that nobody comes to another person's sign-ins by it.
package machine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/token"
)

const (
	maxOpen  = 50 // codes of one person that can be used
	maxHours = 7 * 24
	maxHost  = 100
)

// Service makes and redeems codes. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	agents   *agents.Service
	limiter  *throttle.Limiter
	address  string
}

// New returns the service. address is the base URL under which assistants reach it; the
// limiter is shared with others who guard against guessing.
func New(s *store.Store, r *registry.Registry, a *agents.Service, l *throttle.Limiter, address string) *Service {
	return &Service{store: s, registry: r, agents: a, limiter: l, address: address}
}

// Invite makes a code, which is returned once.
func (svc *Service) Invite(ctx context.Context, by team.Person, n apitype.NewMachineCode) (apitype.MachineInvited, error) {
	var none apitype.MachineInvited
	if err := team.CheckName("agent", n.Agent); err != nil {
		return none, err
	}
	owner := by.Name
	if n.Team {
		owner = ""
	}
	a, err := svc.agents.Agent(ctx, by, n.Agent)
	var missing *team.NotFoundError
	switch {
	case err == nil:
		owner = a.Owner
	case !errors.As(err, &missing):
		return none, err
	}
	if !access.May(by, access.SpeakForAgents, owner) {
		return none, &team.NotAllowedError{
			Why:  fmt.Sprintf("agent %s is not yours: whoever uses the code would act with the sign-ins of its owner", n.Agent),
			Hint: "have its owner make the code, or hand the agent over first",
		}
	}
	if n.Hours == 0 {
		n.Hours = 24
	}
	if n.Hours < 1 || n.Hours > maxHours {
		return none, &team.FieldError{Field: "hours", Why: fmt.Sprintf("must be from 1 to %d", maxHours)}
	}
	if n.PassDays == 0 {
		n.PassDays = 90
	}
	if n.PassDays < 1 || n.PassDays > agents.MaxPassDays {
		return none, &team.FieldError{Field: "passDays", Why: fmt.Sprintf("must be from 1 to %d", agents.MaxPassDays)}
	}
	if err := svc.checkRoom(ctx, by); err != nil {
		return none, err
	}
	code, now := token.New(token.MachinePrefix), time.Now().UTC()
	hash := token.Hash(code)
	v := store.StoredCode{
		MachineCode: team.MachineCode{
			ID: strings.ToLower(team.NewID()), Agent: n.Agent, Owner: owner, By: by.Name, Created: now, State: team.CodeOpen,
			Expires: now.Add(time.Duration(n.Hours) * time.Hour),
		},
		ByID: by.ID, Hours: n.PassDays * 24,
	}
	change := registry.Change{
		By: by, What: "agent.invite", Subject: n.Agent, After: "until " + v.Expires.Format(time.RFC3339), Topics: []string{"agents"},
	}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.AddMachineCode(v, hash[:]) })
	return apitype.MachineInvited{Invitation: v.MachineCode, Code: code}, err
}

func (svc *Service) checkRoom(ctx context.Context, by team.Person) error {
	all, err := store.MachineCodes(ctx, svc.store)
	if err != nil {
		return fmt.Errorf("read the codes: %w", err)
	}
	open := 0
	for _, v := range all {
		if v.ByID == by.ID && v.StateAt(time.Now()) == team.CodeOpen {
			open++
		}
	}
	if open >= maxOpen {
		return &team.ConflictError{Why: "you have too many open codes", Hint: "take some back first: bouncer agent invitations"}
	}
	return nil
}

// List returns the codes that a person may see: their own, and those for agents of the
// team.
func (svc *Service) List(ctx context.Context, by team.Person) ([]team.MachineCode, error) {
	all, err := store.MachineCodes(ctx, svc.store)
	if err != nil {
		return nil, fmt.Errorf("read the codes: %w", err)
	}
	out := []team.MachineCode{}
	for _, v := range all {
		if v.ByID == by.ID || access.May(by, access.SeeAgents, v.Owner) {
			v.State = v.StateAt(time.Now())
			out = append(out, v.MachineCode)
		}
	}
	return out, nil
}

// Withdraw takes a code back.
func (svc *Service) Withdraw(ctx context.Context, by team.Person, id string) error {
	list, err := svc.List(ctx, by)
	if err != nil {
		return err
	}
	for _, v := range list {
		if v.ID != id || !access.May(by, access.KeepAgents, v.Owner) {
			continue
		}
		change := registry.Change{By: by, What: "agent.withdraw", Subject: v.Agent, Topics: []string{"agents"}}
		return store.Explain(svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.RemoveMachineCode(id) }), "code", id)
	}
	return &team.NotFoundError{Kind: "code", Name: id}
}

// Redeem uses a code: the agent is made, unless it is there, and gets a pass. What the
// person who made the code may not do any more, the code does not do either.
func (svc *Service) Redeem(ctx context.Context, in apitype.Redemption, from string) (apitype.Redeemed, error) {
	var none apitype.Redeemed
	end, wait := svc.limiter.Begin(throttle.From("machine-code", from))
	if wait > 0 {
		return none, &team.ThrottledError{For: wait}
	}
	hash := token.Hash(strings.TrimSpace(in.Code))
	v, err := store.MachineCode(ctx, svc.store, hash[:])
	now := time.Now().UTC()
	if err != nil || v.StateAt(now) != team.CodeOpen {
		end(throttle.Failed)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return none, fmt.Errorf("look the code up: %w", err)
		}
		return none, &team.ConflictError{
			Field: "code", Why: "this code is not known, was used already, or has ended", Hint: "have another one made: bouncer agent invite NAME",
		}
	}
	end(throttle.Passed)
	by, err := svc.store.PersonByName(ctx, v.By)
	if err != nil || by.ID != v.ByID {
		return none, &team.ConflictError{Field: "code", Why: "whoever made this code is gone", Hint: "have another one made"}
	}
	host := in.Host
	if r := []rune(host); len(r) > maxHost {
		host = string(r[:maxHost])
	}
	taken := func(tx *store.Tx) error { return tx.TakeMachineCode(v.ID, from, host, now) }
	change := registry.Change{
		By: by, What: "agent.enrol", Subject: v.Agent, After: fmt.Sprintf("on %s, from %s", host, from), Topics: []string{"agents"},
	}
	if err := svc.registry.Write(ctx, change, taken); err != nil {
		return none, &team.ConflictError{Field: "code", Why: "this code was used already", Hint: "have another one made"}
	}
	out, err := svc.make(ctx, by, v, in.Kind, host)
	if err != nil {
		free := svc.store.Update(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.FreeMachineCode(v.ID) })
		return none, errors.Join(err, free)
	}
	return out, nil
}

// make makes the agent, unless it is there, and its pass.
func (svc *Service) make(ctx context.Context, by team.Person, v store.StoredCode, kind, host string) (out apitype.Redeemed, err error) {
	_, err = svc.agents.Agent(ctx, by, v.Agent)
	var missing *team.NotFoundError
	if errors.As(err, &missing) {
		_, err = svc.agents.AddAgent(ctx, by, apitype.NewAgent{Name: v.Agent, Kind: kind, Owner: v.Owner})
	}
	if err != nil {
		return out, err
	}
	p, secret, err := svc.agents.NewPass(ctx, by, v.Agent, apitype.NewPass{Label: "enrolled by a code on " + host, Hours: v.Hours})
	return apitype.Redeemed{Agent: v.Agent, Address: svc.address, Pass: p, Token: secret}, err
}

// GiveBack revokes the pass that is shown: by a machine that could not use it, or is
// enrolled no longer.
func (svc *Service) GiveBack(ctx context.Context, secret string) error {
	hash := token.Hash(strings.TrimSpace(secret))
	p := svc.registry.Current().Passes[hash]
	if p == nil || p.Revoked {
		return &team.NotFoundError{Kind: "valid pass"}
	}
	agent := svc.registry.Current().Agents[p.AgentID]
	if agent == nil {
		return &team.NotFoundError{Kind: "valid pass"}
	}
	by := team.Person{Name: "agent " + agent.Name} // whoever holds its pass
	change := registry.Change{By: by, What: "pass.return", Subject: agent.Name, Topics: []string{"agents"}}
	return store.Explain(
		svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.RevokePass(p.AgentID, p.ID, time.Now()) }), "valid pass", "",
	)
}

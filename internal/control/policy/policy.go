// Package policy keeps the rules and tells what they amount to: the reach of an
// agent, as the snapshot in force has it. Deciding is the matter of core/rules.
package policy

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/core/budget"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/snapshot"
	"bouncer/internal/store"
)

// Service keeps the rules. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	agents   *agents.Service
	coming   func(*snapshot.Agent) rules.Circumstances
	budgets  Spender
}

// Spender knows what is used of budgets.
type Spender interface {
	// Spent reports which budget a call would be over now; nil for none.
	Spent(list []*budget.Budget, who rules.Subject) *budget.SpentError
}

// New returns the service. coming tells what is known of the requests of an agent, as far
// as it has come yet.
func New(
	s *store.Store, r *registry.Registry, a *agents.Service, coming func(*snapshot.Agent) rules.Circumstances, b Spender,
) *Service {
	return &Service{store: s, registry: r, agents: a, coming: coming, budgets: b}
}

// Rules returns all rules, with what each is about now.
func (svc *Service) Rules(ctx context.Context) ([]apitype.RuleInfo, error) {
	have, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the rules: %w", err)
	}
	decided, err := calls.In(svc.store).DecidedBy(ctx, svc.registry.Now().Add(-decidedFor))
	if err != nil {
		return nil, fmt.Errorf("count what rules decided: %w", err)
	}
	out, world := []apitype.RuleInfo{}, svc.world()
	others := cores(have)
	for i, r := range have {
		out = append(out, apitype.RuleInfo{
			Rule: r, Matches: others[i].Matches(world), Decided: decided[r.ID], Warnings: others[i].Warnings(others, world),
		})
	}
	// Those without a place come last, as they were added.
	slices.SortStableFunc(out, func(a, b apitype.RuleInfo) int { return cmp.Compare(place(a), place(b)) })
	return out, nil
}

// place is where a rule stands in lists.
func place(r apitype.RuleInfo) int {
	if r.Order == 0 {
		return math.MaxInt
	}
	return r.Order
}

// Rule returns one rule, by its name or its id.
func (svc *Service) Rule(ctx context.Context, key string) (apitype.RuleInfo, error) {
	list, err := svc.Rules(ctx)
	if err != nil {
		return apitype.RuleInfo{}, err
	}
	for _, r := range list {
		if r.Name == key || strings.EqualFold(r.ID, key) {
			return r, nil
		}
	}
	return apitype.RuleInfo{}, &team.NotFoundError{Kind: "rule", Name: key}
}

// decidedFor is for how long it is counted what rules decided.
const decidedFor = 7 * 24 * time.Hour

func cores(list []team.Rule) []rules.Rule {
	out := make([]rules.Rule, 0, len(list))
	for _, r := range list {
		out = append(out, r.Core(""))
	}
	return out
}

// world is what rules can be about now, by the snapshot that calls are decided by.
func (svc *Service) world() rules.World {
	now := svc.registry.Current()
	w := rules.World{Now: svc.registry.Now(), Bundles: now.Bundles}
	for _, a := range now.Agents {
		w.Agents = append(w.Agents, a.Subject())
	}
	for _, s := range now.Sorted() {
		w.Servers = append(w.Servers, offer(s))
	}
	return w
}

// offer is what a server offers to anybody: its lists can differ from holder to holder.
func offer(s *snapshot.Server) rules.Offer {
	o := rules.Offer{Host: s.Host()}
	seen := map[string]bool{}
	take := func(s *snapshot.Server) {
		for _, kind := range tools.Kinds {
			for _, one := range s.Objects(kind) {
				switch {
				case seen[one.Name]:
				case kind == tools.Tools:
					o.Tools = append(o.Tools, one)
				default:
					o.Others = append(o.Others, one)
				}
				seen[one.Name] = true
			}
		}
	}
	take(s)
	for _, own := range s.ByAgent {
		take(own)
	}
	o.Unknown = len(seen) == 0
	return o
}

// AddRule adds a rule; it is in force when this returns.
func (svc *Service) AddRule(ctx context.Context, by team.Person, n apitype.NewRule) (apitype.RuleInfo, error) {
	r := team.Rule{
		ID:      team.NewID(),
		Name:    n.Name,
		Version: 1,
		Effect:  n.Effect,
		Agent:   n.Agent,
		Server:  n.Server,
		Tool:    n.Tool,
		Note:    strings.TrimSpace(n.Note),
		By:      by.Name,
		Created: time.Now().UTC(),
		Terms:   n.Terms,
	}
	info, err := svc.examine(ctx, r, n.Anyway)
	if err != nil {
		return info, err
	}
	r = info.Rule
	return info, explainName(svc.registry.Write(
		ctx,
		registry.Change{
			By: by, What: "rule.add", Subject: r.Name, After: inFull(r), Topics: []string{"rules"},
			Revert: registry.Revert(team.RevertRuleAdded, r.ID, r.Name, r.Version, nil),
		},
		func(tx *store.Tx) error { return tx.AddRule(r) },
	), r.Name)
}

// UpdateRule alters a rule, which is named by its name or its id; it is in force when
// this returns.
func (svc *Service) UpdateRule(ctx context.Context, by team.Person, key string, p apitype.RulePatch) (apitype.RuleInfo, error) {
	r, err := svc.find(ctx, key)
	if err != nil {
		return apitype.RuleInfo{}, err
	}
	if p.Version != nil {
		r.Version = *p.Version
	}
	before, was := inFull(r), r
	patch(&r, p)
	if r.Name == "" {
		return apitype.RuleInfo{}, &team.FieldError{Field: "name", Why: "is empty; leave it out to keep the present one"}
	}
	info, err := svc.examine(ctx, r, p.Anyway)
	if err != nil {
		return info, err
	}
	r = info.Rule
	info.Version++
	back := apitype.RulePatch{
		Name: &was.Name, Effect: &was.Effect, Agent: &was.Agent, Server: &was.Server, Tool: &was.Tool, Note: &was.Note,
		Terms: &was.Terms,
	}
	return info, store.Explain(explainName(svc.registry.Write(
		ctx,
		registry.Change{
			By: by, What: "rule.update", Subject: r.Name, Before: before, After: inFull(r), Topics: []string{"rules"},
			Revert: registry.Revert(team.RevertRule, r.ID, r.Name, info.Version, back),
		},
		func(tx *store.Tx) error { return tx.UpdateRule(r) },
	), r.Name), "rule", key)
}

// Stage checks a rule that is to be written, whether or not it matches something now, and
// returns it as it is to be written. bundles are those that there will be; nil for those
// that there are.
func (svc *Service) Stage(ctx context.Context, r team.Rule, bundles rules.Bundles) (team.Rule, error) {
	world := svc.world()
	if bundles != nil {
		world.Bundles = bundles
	}
	info, err := svc.examineIn(ctx, world, r, true)
	return info.Rule, err
}

// Draft returns a rule as it would be added, checked as if it were, and not written.
func (svc *Service) Draft(ctx context.Context, by team.Person, n apitype.NewRule) (team.Rule, error) {
	return svc.Stage(ctx, team.Rule{
		ID: team.NewID(), Name: n.Name, Version: 1, Effect: n.Effect, Agent: n.Agent, Server: n.Server, Tool: n.Tool,
		Note: strings.TrimSpace(n.Note), By: by.Name, Created: svc.registry.Now().UTC(), Terms: n.Terms,
	}, nil)
}

// Redraft returns a rule as it would be altered, checked as if it were, and not written.
func (svc *Service) Redraft(ctx context.Context, key string, p apitype.RulePatch) (team.Rule, error) {
	r, err := svc.find(ctx, key)
	if err != nil {
		return r, err
	}
	patch(&r, p)
	return svc.Stage(ctx, r, nil)
}

// patch puts what is to be altered into a rule.
func patch(r *team.Rule, p apitype.RulePatch) {
	for _, field := range [...]struct{ to, from *string }{
		{&r.Name, p.Name}, {&r.Effect, p.Effect}, {&r.Agent, p.Agent}, {&r.Server, p.Server}, {&r.Tool, p.Tool}, {&r.Note, p.Note},
	} {
		if field.from != nil {
			*field.to = strings.TrimSpace(*field.from)
		}
	}
	if p.Terms != nil {
		r.Terms = *p.Terms
	}
}

// Coming tells what is known of the requests of an agent, as far as it has come yet.
func (svc *Service) Coming(a *snapshot.Agent) rules.Circumstances { return svc.coming(a) }

func explainName(err error, name string) error {
	if errors.Is(err, store.ErrTaken) {
		return &team.ConflictError{Field: "name", Why: "there is a rule " + name + " already", Hint: "choose another name"}
	}
	return err
}

// examine checks a rule, reads a tool by the name that agents see, gives the rule a
// name if it has none, and tells what it is about. What matches nothing is refused
// unless anyway is set: nearly always a name is misspelt.
func (svc *Service) examine(ctx context.Context, r team.Rule, anyway bool) (apitype.RuleInfo, error) {
	return svc.examineIn(ctx, svc.world(), r, anyway)
}

func (svc *Service) examineIn(ctx context.Context, world rules.World, r team.Rule, anyway bool) (apitype.RuleInfo, error) {
	have, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return apitype.RuleInfo{}, fmt.Errorf("read the rules: %w", err)
	}
	plain := r.Core("").Plain(world)
	r.Server, r.Tool = plain.Server, plain.Tool
	if r.Name == "" {
		r.Name = r.Core("").Propose(func(name string) bool {
			return slices.ContainsFunc(have, func(h team.Rule) bool { return h.Name == name })
		})
	}
	info := apitype.RuleInfo{Rule: r}
	if err := r.Core("").Check(); err != nil {
		var fe *rules.FieldError
		if errors.As(err, &fe) {
			return info, &team.FieldError{Field: fe.Field, Why: fe.Why}
		}
		return info, fmt.Errorf("check a rule: %w", err)
	}
	agent, err := svc.store.AgentByName(ctx, r.Agent, time.Now())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return info, fmt.Errorf("look for the agent of a rule: %w", err)
	}
	r.AgentID = agent.ID
	if err := svc.bindPerson(ctx, &r); err != nil {
		return info, err
	}
	if err := svc.checkBundle(r, world); err != nil {
		return info, err
	}
	for _, h := range have {
		if h.ID != r.ID && h.Effect == r.Effect && h.Agent == r.Agent && h.AgentID == r.AgentID && h.Server == r.Server &&
			h.Tool == r.Tool &&
			reflect.DeepEqual(h.Terms, r.Terms) {
			return info, &team.ConflictError{
				Field: "effect",
				Why:   "rule " + h.Name + " says the same already",
				Hint:  "nothing needs to be done",
			}
		}
	}
	core := r.Core("")
	info = apitype.RuleInfo{Rule: r, Matches: core.Matches(world), Warnings: core.Warnings(cores(have), world)}
	if info.Matches.Nothing != "" && !anyway {
		return info, nothingMatches(r, info.Matches)
	}
	return info, nil
}

// bindPerson ties a rule for a person to that person, so that nobody who has the name
// later is meant.
func (svc *Service) bindPerson(ctx context.Context, r *team.Rule) error {
	r.PersonID = ""
	if r.Person == "" {
		return nil
	}
	people, err := svc.store.People(ctx)
	if err != nil {
		return fmt.Errorf("look for the person of a rule: %w", err)
	}
	for _, p := range people {
		if p.Name == r.Person {
			r.PersonID = p.ID
		}
	}
	return nil
}

func (svc *Service) checkBundle(r team.Rule, w rules.World) error {
	if r.Bundle == "" {
		return nil
	}
	if _, err := w.Bundles.Flatten(r.Bundle); err != nil {
		return &team.FieldError{Field: "bundle", Why: fmt.Sprintf("is %.60q; there is no such bundle (bouncer bundle list)", r.Bundle)}
	}
	return nil
}

// nothingMatches says which field matches nothing, and what was probably meant.
func nothingMatches(r team.Rule, m rules.Matches) error {
	typed := map[string]string{
		"agent": r.Agent, "server": r.Server, "tool": r.Tool, "person": r.Person, "group": r.Group, "label": r.Label,
		"serverLabel": r.ServerLabel, "tag": r.Tag,
	}[m.Nothing]
	hint := "look at its spelling"
	switch {
	case m.Suggested != "":
		hint = "perhaps " + m.Suggested + " was meant"
	case strings.Contains(typed, ","):
		hint = "a rule holds one name or pattern in each field: add one for each name"
	}
	return &team.ConflictError{
		Field: m.Nothing,
		Why:   "the rule matches " + m.Text,
		Hint:  hint + "; to have it in force for what comes later, add it anyway (--anyway)",
	}
}

// find returns the rule of that name or id.
func (svc *Service) find(ctx context.Context, key string) (team.Rule, error) {
	have, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return team.Rule{}, fmt.Errorf("read the rules: %w", err)
	}
	for _, h := range have {
		if h.Name == key || strings.EqualFold(h.ID, key) {
			return h, nil
		}
	}
	return team.Rule{}, &team.NotFoundError{Kind: "rule", Name: key}
}

// RemoveRule removes a rule, which is named by its name or its id; it is out of force
// when this returns.
func (svc *Service) RemoveRule(ctx context.Context, by team.Person, key string) error {
	r, err := svc.find(ctx, key)
	if err != nil {
		return err
	}
	return store.Explain(svc.registry.Write(
		ctx,
		registry.Change{
			By: by, What: "rule.remove", Subject: r.Name, Before: inFull(r), Topics: []string{"rules"},
			Revert: registry.Revert(team.RevertRuleGone, r.ID, r.Name, 0, r),
		},
		func(tx *store.Tx) error { return tx.RemoveRule(r.ID) },
	), "rule", key)
}

// PutBack adds a rule that was removed. One for a single agent binds that agent and no
// other of its name.
func (svc *Service) PutBack(ctx context.Context, by team.Person, r team.Rule) (apitype.RuleInfo, error) {
	if r.AgentID != "" {
		a, err := svc.store.AgentByName(ctx, r.Agent, time.Now())
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return apitype.RuleInfo{}, fmt.Errorf("look for the agent of a rule: %w", err)
		}
		if a.ID != r.AgentID {
			return apitype.RuleInfo{}, &team.NotFoundError{Kind: "agent", Name: r.Agent}
		}
	}
	return svc.AddRule(ctx, by, apitype.NewRule{
		Name: r.Name, Effect: r.Effect, Agent: r.Agent, Server: r.Server, Tool: r.Tool, Note: r.Note, Anyway: true,
		Terms: r.Terms,
	})
}

// inFull is a rule with its note, as changes tell it.
func inFull(r team.Rule) string {
	text := r.Core("").Describe()
	if r.Note != "" {
		text += ": " + r.Note
	}
	return text
}

package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/store"
	"bouncer/internal/token"
)

// ErrNotYours is returned when somebody alters what belongs to somebody else.
var ErrNotYours = errors.New("it belongs to somebody else")

// Bounds on passes.
const (
	MaxPassDays = 366
	maxPasses   = 20 // valid at a time, for one agent
	maxLabel    = 100
)

// Agents returns the agents that the person may see.
func (d *Desk) Agents(ctx context.Context, by team.Person) ([]team.Agent, error) {
	d.flushUse(ctx)
	list, err := d.store.Agents(ctx, time.Now())
	if err != nil || by.Role != team.Member {
		return list, err
	}
	own := []team.Agent{}
	for _, a := range list {
		if a.Owner == by.Name {
			own = append(own, a)
		}
	}
	return own, nil
}

// Agent returns one agent that the person may see; another one is not found.
func (d *Desk) Agent(ctx context.Context, by team.Person, name string) (team.Agent, error) {
	d.flushUse(ctx)
	a, err := d.store.AgentByName(ctx, name, time.Now())
	if err == nil && by.Role == team.Member && a.Owner != by.Name {
		err = store.ErrNotFound
	}
	return a, store.Explain(err, "agent", name)
}

// NewAgent is an agent to be added.
type NewAgent struct {
	Name  string `json:"name"`
	Kind  string `json:"kind,omitempty" doc:"which assistant it is, in a word"`
	Owner string `json:"owner,omitempty" doc:"name of the owner; empty for the team"`
}

// AddAgent adds an agent. Members add agents of their own only.
func (d *Desk) AddAgent(ctx context.Context, by team.Person, n NewAgent) (team.Agent, error) {
	if err := team.CheckName("name", n.Name); err != nil {
		return team.Agent{}, err
	}
	if n.Kind == "" {
		n.Kind = "assistant"
	}
	if err := team.CheckName("kind", n.Kind); err != nil {
		return team.Agent{}, err
	}
	if err := d.checkOwner(ctx, by, n.Owner); err != nil {
		return team.Agent{}, err
	}
	a := team.Agent{ID: team.NewID(), Name: n.Name, Kind: n.Kind, Owner: n.Owner, Created: time.Now().UTC()}
	err := d.alter(ctx, by, "agent.add", a.Name, "", describeAgent(a), "agents", func(tx *store.Tx) error { return tx.AddAgent(a) })
	return a, store.Explain(err, "agent", a.Name)
}

func (d *Desk) checkOwner(ctx context.Context, by team.Person, owner string) error {
	if by.Role == team.Member && owner != by.Name {
		return &team.FieldError{Field: "owner", Why: fmt.Sprintf("must be %s: members keep agents of their own only", by.Name)}
	}
	if owner == "" {
		return nil
	}
	_, err := d.store.PersonByName(ctx, owner)
	return store.Explain(err, "person", owner)
}

func describeAgent(a team.Agent) string {
	return fmt.Sprintf("%s, owner %q, paused %v", a.Kind, a.Owner, a.Paused)
}

// AgentPatch is what can be altered of an agent; nil fields stay.
type AgentPatch struct {
	Kind   *string `json:"kind,omitempty"`
	Owner  *string `json:"owner,omitempty" doc:"empty for the team"`
	Paused *bool   `json:"paused,omitempty"`
}

// UpdateAgent alters an agent.
func (d *Desk) UpdateAgent(ctx context.Context, by team.Person, name string, p AgentPatch) (team.Agent, error) {
	a, err := d.Agent(ctx, by, name)
	if err != nil {
		return a, err
	}
	before := describeAgent(a)
	if p.Kind != nil {
		if err := team.CheckName("kind", *p.Kind); err != nil {
			return a, err
		}
		a.Kind = *p.Kind
	}
	moved := false
	if p.Owner != nil {
		if err := d.checkOwner(ctx, by, *p.Owner); err != nil {
			return a, err
		}
		moved = a.Owner != *p.Owner
		a.Owner = *p.Owner
	}
	if p.Paused != nil {
		a.Paused = *p.Paused
	}
	return a, d.alter(ctx, by, "agent.update", name, before, describeAgent(a), "agents", func(tx *store.Tx) error {
		if moved {
			// Passes made before would act with the new owner's sign-ins.
			if err := tx.EndPasses(a.ID, time.Now()); err != nil {
				return err
			}
		}
		return tx.SetAgent(a)
	})
}

// RemoveAgent removes an agent and its passes.
func (d *Desk) RemoveAgent(ctx context.Context, by team.Person, name string) error {
	a, err := d.Agent(ctx, by, name)
	if err != nil {
		return err
	}
	return d.alter(ctx, by, "agent.remove", name, describeAgent(a), "", "agents", func(tx *store.Tx) error { return tx.RemoveAgent(a.ID) })
}

// Passes returns an agent's passes, newest first.
func (d *Desk) Passes(ctx context.Context, by team.Person, agent string) ([]team.Pass, error) {
	a, err := d.Agent(ctx, by, agent)
	if err != nil {
		return nil, err
	}
	all, err := d.store.Passes(ctx)
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

// NewPass makes a pass for an agent, valid for a number of days. The token is
// returned once and never again. A pass in an address opens that address only.
func (d *Desk) NewPass(ctx context.Context, by team.Person, agent, label string, days int, inAddress bool) (team.Pass, string, error) {
	a, err := d.Agent(ctx, by, agent)
	if err != nil {
		return team.Pass{}, "", err
	}
	if err := mayActAs(by, a); err != nil {
		return team.Pass{}, "", err
	}
	if days < 1 || days > MaxPassDays {
		return team.Pass{}, "", &team.FieldError{Field: "days", Why: fmt.Sprintf("is %d; a pass is valid for 1 to %d days", days, MaxPassDays)}
	}
	if len(label) > maxLabel {
		return team.Pass{}, "", &team.FieldError{Field: "label", Why: "is longer than 100 characters"}
	}
	if inAddress && !d.o.AddressPasses {
		return team.Pass{}, "", &team.FieldError{Field: "inAddress", Why: "is off here: an address with a pass in it is easily seen by others; an admin can allow it (setting address-passes)"}
	}
	have, err := d.Passes(ctx, by, agent)
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
		return team.Pass{}, "", &team.ConflictError{Field: "agent", Why: fmt.Sprintf("agent %s has %d valid passes already", agent, valid), Hint: "revoke some first"}
	}
	kind := team.PassPlain
	if inAddress {
		kind = team.PassInAddress
	}
	pass := token.New(token.PassPrefix)
	now := time.Now().UTC()
	p := store.StoredPass{AgentID: a.ID, Hash: token.Hash(pass), Pass: team.Pass{
		ID: team.NewID(), Agent: a.Name, Kind: kind, Label: strings.TrimSpace(label), Hint: pass[len(pass)-4:], Created: now, Expires: now.AddDate(0, 0, days), State: "valid",
	}}
	err = d.alter(ctx, by, "pass.make", agent, "", fmt.Sprintf("%s until %s", p.ID, p.Expires.Format(time.DateOnly)), "agents", func(tx *store.Tx) error { return tx.AddPass(p) })
	if err != nil {
		return team.Pass{}, "", err
	}
	return p.Pass, pass, nil
}

// mayActAs reports whether somebody may hold a pass for an agent. Whoever holds
// one acts with the sign-ins of the agent's owner, which are nobody else's: not
// even an admin's.
func mayActAs(by team.Person, a team.Agent) error {
	if a.Owner == "" || a.Owner == by.Name {
		return nil
	}
	return &team.FieldError{Field: "agent", Why: fmt.Sprintf("belongs to %s, and whoever holds a pass for it acts with the sign-ins of %s; only %s can make one", a.Owner, a.Owner, a.Owner)}
}

// RevokePass ends a pass; the very next call with it is refused.
func (d *Desk) RevokePass(ctx context.Context, by team.Person, agent, id string) error {
	a, err := d.Agent(ctx, by, agent)
	if err != nil {
		return err
	}
	err = d.alter(ctx, by, "pass.revoke", agent, id, "", "agents", func(tx *store.Tx) error { return tx.RevokePass(a.ID, id, time.Now()) })
	return store.Explain(err, "valid pass", id)
}

// ReachedTool is one tool with whether an agent can use it, and why.
type ReachedTool struct {
	Server      string `json:"server"`
	Tool        string `json:"tool" doc:"the server's own name"`
	Exposed     string `json:"exposed" doc:"the name on /mcp"`
	Title       string `json:"title"`
	Description string `json:"description"`
	Destructive bool   `json:"destructive" doc:"the server says so"`
	ReadOnly    bool   `json:"readOnly" doc:"the server says so"`
	Admitted    bool   `json:"admitted"`
	Rule        string `json:"rule" doc:"id of the deciding rule; empty when no rule admits"`
	Why         string `json:"why"`
	Lacks       string `json:"lacks,omitempty" doc:"which credential is missing for it, though it is admitted"`
}

// Reach returns every tool of every server, with whether the agent can use it.
func (d *Desk) Reach(ctx context.Context, by team.Person, agent string) ([]ReachedTool, error) {
	a, err := d.Agent(ctx, by, agent)
	if err != nil {
		return nil, err
	}
	servers, err := d.store.Servers(ctx)
	if err != nil {
		return nil, err
	}
	set, err := d.ruleSet(ctx)
	if err != nil {
		return nil, err
	}
	mine := set.For(a.Name)
	people, err := d.store.People(ctx)
	if err != nil {
		return nil, err
	}
	reg, err := d.register(ctx)
	if err != nil {
		return nil, err
	}
	out := []ReachedTool{}
	for _, s := range servers {
		list, err := d.ServerTools(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		on, lacks := mine.On(s.Name), d.lacks(s, a, reg, people)
		for _, t := range list {
			sum, dec := t.Summary(), on.Decide(t.Name)
			r := ReachedTool{
				Server: s.Name, Tool: t.Name, Exposed: tools.Expose(s.Name, t.Name), Title: sum.Title, Description: sum.Description,
				Destructive: sum.Destructive, ReadOnly: sum.ReadOnly, Admitted: dec.Admitted(), Rule: dec.RuleID(), Why: dec.Reason(),
			}
			if r.Admitted {
				r.Lacks = lacks
			}
			if s.Paused {
				r.Admitted, r.Why = false, "the server is paused"
			}
			if a.Paused {
				r.Admitted, r.Why = false, "the agent is paused"
			}
			out = append(out, r)
		}
	}
	return out, nil
}

// lacks says which credential an agent has to be given for a server; "" when there
// is a way to it.
func (d *Desk) lacks(s team.Server, a team.Agent, reg *register, people []team.Person) string {
	byName := map[string]team.Person{}
	for _, p := range people {
		byName[p.Name] = p
	}
	there := d.holdersOf(s, reg, people)
	for _, h := range candidates(s, a, byName) {
		if slices.Contains(there, h) {
			return ""
		}
	}
	return d.missing(s, a, byName).Text
}

func (d *Desk) ruleSet(ctx context.Context) (*rules.Set, error) {
	rows, err := d.store.Rules(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]rules.Rule, 0, len(rows))
	for _, r := range rows {
		list = append(list, coreRule(r))
	}
	return rules.NewSet(list), nil
}

func coreRule(r team.Rule) rules.Rule {
	return rules.Rule{ID: r.ID, Effect: rules.Effect(r.Effect), Agent: r.Agent, Server: r.Server, Tool: r.Tool, Note: r.Note, By: r.By}
}

// Rules returns all rules.
func (d *Desk) Rules(ctx context.Context) ([]team.Rule, error) { return d.store.Rules(ctx) }

// NewRule is a rule to be added.
type NewRule struct {
	Effect string `json:"effect" enum:"admit,refuse"`
	Agent  string `json:"agent" doc:"glob over agent names"`
	Server string `json:"server" doc:"glob over server names"`
	Tool   string `json:"tool" doc:"glob over the server's own tool names"`
	Note   string `json:"note,omitempty" doc:"why, in a sentence; agents are told"`
}

// AddRule adds a rule; it is in force when this returns.
func (d *Desk) AddRule(ctx context.Context, by team.Person, n NewRule) (team.Rule, error) {
	r := team.Rule{ID: team.NewID(), Effect: n.Effect, Agent: n.Agent, Server: n.Server, Tool: n.Tool, Note: strings.TrimSpace(n.Note), By: by.Name, Created: time.Now().UTC()}
	if err := coreRule(r).Check(); err != nil {
		var fe *rules.FieldError
		if errors.As(err, &fe) {
			return r, &team.FieldError{Field: fe.Field, Why: fe.Why}
		}
		return r, err
	}
	have, err := d.store.Rules(ctx)
	if err != nil {
		return r, err
	}
	for _, h := range have {
		if h.Effect == r.Effect && h.Agent == r.Agent && h.Server == r.Server && h.Tool == r.Tool {
			return r, &team.ConflictError{Field: "effect", Why: "rule " + h.ID + " says the same already", Hint: "nothing needs to be done"}
		}
	}
	return r, d.alter(ctx, by, "rule.add", r.ID, "", coreRule(r).Describe(), "rules", func(tx *store.Tx) error { return tx.AddRule(r) })
}

// RemoveRule removes a rule; it is out of force when this returns.
func (d *Desk) RemoveRule(ctx context.Context, by team.Person, id string) error {
	have, err := d.store.Rules(ctx)
	if err != nil {
		return err
	}
	for _, h := range have {
		if strings.EqualFold(h.ID, id) {
			return d.alter(ctx, by, "rule.remove", h.ID, coreRule(h).Describe(), "", "rules", func(tx *store.Tx) error { return tx.RemoveRule(h.ID) })
		}
	}
	return &team.NotFoundError{Kind: "rule", Name: id}
}

// CallQuery selects calls of the journal.
type CallQuery struct {
	Agent, Server, Tool, Decision, Outcome, Rule, Text string
	Since, Until                                       time.Time
	Before, After                                      string // ids
	Limit                                              int
}

// MaxCalls is the most calls that one question returns.
const MaxCalls = 500

func (d *Desk) filter(by team.Person, q CallQuery) (store.CallFilter, error) {
	f := store.CallFilter{Agent: q.Agent, Server: q.Server, Tool: q.Tool, Decision: q.Decision, Outcome: q.Outcome, Rule: q.Rule, Text: q.Text, Since: q.Since, Until: q.Until, Limit: q.Limit}
	if by.Role == team.Member {
		f.Owner = by.Name
	}
	for _, c := range [...]struct {
		field, id string
		key       *store.CallKey
	}{{"before", q.Before, &f.Before}, {"after", q.After, &f.After}} {
		if c.id == "" {
			continue
		}
		key, err := store.ParseCallKey(c.id)
		if err != nil {
			return f, &team.FieldError{Field: c.field, Why: "is not the id of a call"}
		}
		*c.key = key
	}
	return f, nil
}

// Calls returns the newest calls that the query selects and the person may see.
func (d *Desk) Calls(ctx context.Context, by team.Person, q CallQuery) ([]team.Call, error) {
	f, err := d.filter(by, q)
	if err != nil {
		return nil, err
	}
	rows, err := d.store.Calls(ctx, f)
	out := make([]team.Call, 0, len(rows))
	for _, r := range rows {
		out = append(out, r.Call)
	}
	return out, err
}

// Call returns one call in full.
func (d *Desk) Call(ctx context.Context, by team.Person, id string) (team.Call, error) {
	key, err := store.ParseCallKey(id)
	if err != nil {
		return team.Call{}, store.Explain(err, "call", id)
	}
	c, err := d.store.CallByKey(ctx, key)
	if err == nil && by.Role == team.Member && c.Person != by.Name {
		err = store.ErrNotFound
	}
	return c.Call, store.Explain(err, "call", id)
}

// CallCounts counts calls in equal steps of time.
func (d *Desk) CallCounts(ctx context.Context, by team.Person, q CallQuery, step time.Duration) ([]team.Bucket, error) {
	f, err := d.filter(by, q)
	if err != nil {
		return nil, err
	}
	return d.store.CallCounts(ctx, f, step)
}

// Package rehearse runs a changed set of rules over the calls of the last days and over all
// present reach, and tells what would be another decision. Nothing is altered.
//
// Both sets are held against the agents, servers and tools as they are now, so that what
// differs is due to the rules alone.
package rehearse

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/roster"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/snapshot"
	"bouncer/internal/store"
)

// Limits on one rehearsal.
const (
	maxCalls   = 50_000
	maxDays    = 90
	usualDays  = 7
	maxSamples = 3
	maxGroups  = 500
	maxReach   = 2_000
)

// Service rehearses. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	policy   *policy.Service
}

// New returns the service.
func New(s *store.Store, r *registry.Registry, p *policy.Service) *Service { return &Service{s, r, p} }

// Run tells what a change of the rules would make another decision.
func (svc *Service) Run(ctx context.Context, by team.Person, in apitype.Rehearsal) (apitype.Rehearsed, error) {
	if in.Days < 0 || in.Days > maxDays {
		return apitype.Rehearsed{}, &team.FieldError{Field: "days", Why: fmt.Sprintf("must be between 1 and %d", maxDays)}
	}
	have, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return apitype.Rehearsed{}, fmt.Errorf("read the rules: %w", err)
	}
	next, err := svc.next(ctx, by, have, in)
	if err != nil {
		return apitype.Rehearsed{}, err
	}
	now := svc.registry.Current()
	at := svc.registry.Now()
	days := cmp.Or(in.Days, usualDays)
	r := &run{
		now: now, coming: svc.policy.Coming, before: rules.Compile(cores(have), at, now.Bundles),
		after: rules.Compile(cores(next), at, now.Bundles),
		seen:  map[string]*pair{}, groups: map[string]*apitype.RehearsedGroup{},
		out: apitype.Rehearsed{Days: days, Groups: []apitype.RehearsedGroup{}, Reach: []apitype.RehearsedTool{}},
	}
	if err := r.overReach(ctx); err != nil {
		return apitype.Rehearsed{}, err
	}
	since := at.Add(-time.Duration(days) * 24 * time.Hour)
	if err := calls.In(svc.store).Recent(ctx, since, maxCalls, r.overCall); err != nil {
		return apitype.Rehearsed{}, fmt.Errorf("read the calls: %w", err)
	}
	return r.finish(), nil
}

func cores(list []team.Rule) []rules.Rule {
	out := make([]rules.Rule, 0, len(list))
	for _, r := range list {
		out = append(out, r.Core(""))
	}
	return out
}

// next is the set of rules as it would be.
func (svc *Service) next(ctx context.Context, by team.Person, have []team.Rule, in apitype.Rehearsal) ([]team.Rule, error) {
	next := slices.Clone(have)
	if in.Roster != "" {
		return svc.ofRoster(ctx, by, have, in)
	}
	for _, u := range in.Update {
		r, err := svc.policy.Redraft(ctx, u.Rule, u.RulePatch)
		if err != nil {
			return nil, err
		}
		next[slices.IndexFunc(next, func(h team.Rule) bool { return h.ID == r.ID })] = r
	}
	for _, name := range in.Remove {
		at := slices.IndexFunc(next, func(h team.Rule) bool { return h.Name == name || strings.EqualFold(h.ID, name) })
		if at < 0 {
			return nil, &team.NotFoundError{Kind: "rule", Name: name}
		}
		next = slices.Delete(next, at, at+1)
	}
	for _, n := range in.Add {
		r, err := svc.policy.Draft(ctx, by, n)
		if err != nil {
			return nil, err
		}
		next = append(next, r)
	}
	return next, nil
}

// ofRoster is the set of rules that a roster makes: those that it names, and, without
// prune, those that it does not.
func (svc *Service) ofRoster(ctx context.Context, by team.Person, have []team.Rule, in apitype.Rehearsal) ([]team.Rule, error) {
	want, err := roster.Parse([]byte(in.Roster))
	if err != nil {
		return nil, &team.FieldError{Field: "roster", Why: "cannot be used: " + err.Error()}
	}
	next := []team.Rule{}
	for _, h := range have {
		if _, named := want.Rules[h.Name]; !named && (!in.Prune || want.Rules == nil) {
			next = append(next, h)
		}
	}
	for name, r := range want.Rules {
		draft, err := svc.policy.Stage(ctx, team.Rule{
			ID: team.NewID(), Name: name, Effect: r.Effect, Agent: r.Agent, Server: r.Server, Tool: r.Tool, Note: r.Note,
			By: by.Name, Terms: r.Terms,
		}, nil)
		if err != nil {
			return nil, fmt.Errorf("rules.%s: %w", name, err)
		}
		next = append(next, draft)
	}
	return next, nil
}

// run is one rehearsal.
type run struct {
	now           *snapshot.Snapshot
	coming        func(*snapshot.Agent) rules.Circumstances
	before, after *rules.Set
	seen          map[string]*pair // by agent, server and tool
	agents        map[string]*snapshot.Agent
	groups        map[string]*apitype.RehearsedGroup
	out           apitype.Rehearsed
}

// pair is one tool of one agent under both sets.
type pair struct{ before, after judged }

// judged is one tool of one agent under one set of rules.
type judged struct {
	decision rules.Decision
	shape    *rules.Shape
	unfit    error
}

func judge(local *rules.Local, o *rules.Object) judged {
	j := judged{decision: local.Decide(o)}
	if j.decision.Admitted() && j.decision.Shaped {
		j.shape, j.unfit = local.Shape(o, nil)
	}
	return j
}

// effect is what becomes of calls of the tool, before any arguments are known.
func (j judged) effect() string {
	if j.unfit != nil {
		return string(rules.Refuse)
	}
	return string(j.decision.Effect)
}

// ofCall is what becomes of a call with its arguments. clear is false where they would have
// to be known and are not kept whole.
func (j judged) ofCall(c calls.Record) (effect string, clear bool) {
	if !j.shape.Looks() || j.unfit != nil {
		return j.effect(), true
	}
	if c.Cut && c.Arguments == "" || !json.Valid([]byte(c.Arguments)) {
		return "", false
	}
	plain, err := j.shape.Unfilled([]byte(c.Arguments))
	if err != nil {
		return "", false
	}
	return string(j.shape.Judge(plain).Effect), true
}

// overReach compares what every agent can use.
func (r *run) overReach(ctx context.Context) error {
	r.agents = map[string]*snapshot.Agent{}
	names := []string{}
	for _, a := range r.now.Agents {
		r.agents[a.Name] = a
		names = append(names, a.Name)
	}
	slices.Sort(names)
	for _, name := range names {
		if err := ctx.Err(); err != nil {
			return err
		}
		a := r.agents[name]
		how := r.coming(a)
		before, after := r.before.For(a.Subject()).Under(how), r.after.For(a.Subject()).Under(how)
		for _, s := range r.now.Sorted() {
			s = s.For(a)
			was, is := before.On(s.Host()), after.On(s.Host())
			for _, kind := range tools.Kinds {
				objects := s.Objects(kind)
				for i := range objects {
					p := &pair{judge(was, &objects[i]), judge(is, &objects[i])}
					r.seen[name+"\x00"+s.Name+"\x00"+objects[i].Name] = p
					r.note(name, s.Name, objects[i].Name, p)
				}
			}
		}
	}
	return nil
}

// note takes down a tool of which the decision is another one.
func (r *run) note(agent, server, tool string, p *pair) {
	from, to := p.before.effect(), p.after.effect()
	narrowed := from == to && to != string(rules.Refuse) && inputOf(p.before.shape) != inputOf(p.after.shape)
	if from == to && !narrowed {
		return
	}
	r.out.ReachChanged++
	if len(r.out.Reach) < maxReach {
		r.out.Reach = append(r.out.Reach, apitype.RehearsedTool{
			Agent: agent, Server: server, Tool: tool, Before: from, After: to, Narrowed: narrowed,
		})
	}
}

func inputOf(s *rules.Shape) string {
	if s == nil {
		return ""
	}
	return string(s.Input)
}

// overCall compares what becomes of a recorded call.
func (r *run) overCall(c calls.Record) error {
	if c.Server == "" && c.Tool == snapshot.FindTools {
		return nil // a search is no matter of rules
	}
	r.out.Calls += c.Times
	p := r.seen[c.Agent+"\x00"+c.Server+"\x00"+c.Tool]
	if p == nil {
		r.out.Gone += c.Times // the agent or the tool is not there any more
		return nil
	}
	from, clearBefore := p.before.ofCall(c)
	to, clearAfter := p.after.ofCall(c)
	if !clearBefore || !clearAfter {
		r.out.Unclear += c.Times
		return nil
	}
	if from == to {
		return nil
	}
	switch to {
	case string(rules.Refuse):
		r.out.Refused += c.Times
	case string(rules.Hold):
		r.out.Held += c.Times
	default:
		r.out.Admitted += c.Times
	}
	key := strings.Join([]string{c.Agent, c.Server, c.Tool, from, to}, "\x00")
	g := r.groups[key]
	if g == nil {
		g = &apitype.RehearsedGroup{
			RehearsedTool: apitype.RehearsedTool{Agent: c.Agent, Server: c.Server, Tool: c.Tool, Before: from, After: to},
			Samples:       []apitype.RehearsedSample{},
		}
		r.groups[key] = g
	}
	g.Calls += c.Times
	if len(g.Samples) < maxSamples {
		g.Samples = append(g.Samples, apitype.RehearsedSample{ID: c.ID, At: c.At.UTC(), Arguments: c.Arguments})
	}
	return nil
}

func (r *run) finish() apitype.Rehearsed {
	for _, g := range r.groups {
		r.out.Groups = append(r.out.Groups, *g)
	}
	slices.SortFunc(r.out.Groups, func(a, b apitype.RehearsedGroup) int {
		if a.Calls != b.Calls {
			return b.Calls - a.Calls
		}
		return strings.Compare(a.Agent+a.Server+a.Tool, b.Agent+b.Server+b.Tool)
	})
	r.out.Groups = r.out.Groups[:min(len(r.out.Groups), maxGroups)]
	for _, t := range r.out.Reach {
		r.out.Takes = r.out.Takes || strength(t.After) > strength(t.Before) || t.Narrowed
	}
	r.out.Takes = r.out.Takes || r.out.Refused+r.out.Held > 0
	r.out.Text = r.words()
	return r.out
}

func strength(effect string) int {
	return map[string]int{string(rules.Admit): 0, string(rules.Hold): 1, string(rules.Refuse): 2}[effect]
}

func counted(calls int) string {
	if calls == 1 {
		return "1 call"
	}
	return fmt.Sprintf("%d calls", calls)
}

// words say the result in a sentence.
func (r *run) words() string {
	o := r.out
	if o.Refused+o.Held+o.Admitted == 0 && o.ReachChanged == 0 {
		return fmt.Sprintf("nothing would be another decision: none of %s of the last %d days, and nothing that an agent can use now",
			counted(o.Calls), o.Days)
	}
	parts := []string{}
	for _, p := range [...]struct {
		n    int
		what string
	}{{o.Refused, "refused"}, {o.Held, "held"}, {o.Admitted, "admitted"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d would be %s", p.n, p.what))
		}
	}
	text := fmt.Sprintf("of %s of the last %d days ", counted(o.Calls), o.Days)
	if len(parts) == 0 {
		text += "none would be another decision"
	} else {
		text += strings.Join(parts, ", ")
	}
	text += fmt.Sprintf("; of what agents can use now %d would be another decision", o.ReachChanged)
	if o.Unclear > 0 {
		text += fmt.Sprintf("; of %s the arguments are not kept whole, so nobody can tell", counted(o.Unclear))
	}
	return text
}

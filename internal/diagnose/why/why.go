// Package why answers from an agent's point of view: is it in, what does it see, why is a
// tool not there or not working, at which step, and whose move it is. It asks those who
// decide the same on the hot path, so that it tells what the agent would meet.
package why

import (
	"context"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/near"
	"bouncer/internal/core/report"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Deps are what the service asks.
type Deps struct {
	Store    *store.Store
	Agents   *agents.Service
	Policy   *policy.Service
	Registry *registry.Registry
	Calls    *journal.Reader
	// Contact tells of an agent's last contact, by its id.
	Contact func(id string) (team.Contact, bool)
	// TurnedAway are those who came without a valid pass.
	TurnedAway func() []team.TurnedAway
}

// Service answers. It is safe for concurrent use.
type Service struct{ Deps }

// New returns the service.
func New(d Deps) *Service { return &Service{d} }

// Outcomes of steps.
const (
	ok      = "ok"
	failed  = "failed"
	unknown = "unknown"
)

// manyTools is how many tools many assistants can hold; what is over they leave out.
const manyTools = 128

// answer is one answer in the making.
type answer struct {
	apitype.Why
	agent team.Agent
}

func (a *answer) step(name, outcome, text string) {
	a.Steps = append(a.Steps, apitype.WhyStep{Name: name, Outcome: outcome, Text: text})
}

func (a *answer) found(cause diagnosis.Cause, title, remedy string, facts ...string) {
	if facts == nil {
		facts = []string{}
	}
	a.Found = append(a.Found, report.Found{
		Cause: cause, Title: title, Who: cause.WhoActs(), Remedy: remedy, Evidence: facts, Follows: []string{},
	})
}

// Ask answers for an agent, and for a tool where one is named: by the server's own name
// with the server before it, or by the name that agents see.
func (svc *Service) Ask(ctx context.Context, by team.Person, agent, tool string) (apitype.Why, error) {
	known, err := svc.Agents.Agent(ctx, by, agent)
	if err != nil {
		return apitype.Why{}, err
	}
	a := &answer{Why: apitype.Why{Agent: known.Name, Found: []report.Found{}}, agent: known}
	if err := svc.door(ctx, by, a); err != nil {
		return apitype.Why{}, err
	}
	reach, err := svc.Policy.Reach(ctx, by, agent)
	if err != nil {
		return apitype.Why{}, err
	}
	later := svc.assistant(a, reach)
	if tool != "" {
		if err := svc.tool(ctx, by, a, reach, tool); err != nil {
			return apitype.Why{}, err
		}
	} else if err := svc.recent(ctx, by, a, journal.Query{Agent: known.Name, Limit: 20}); err != nil {
		return apitype.Why{}, err
	}
	if len(a.Found) == 0 {
		later() // a list that is old explains nothing that something else does
	}
	a.OK = len(a.Found) == 0
	return a.Why, nil
}

// door looks at the agent and its passes.
func (svc *Service) door(ctx context.Context, by team.Person, a *answer) error {
	if a.agent.Paused {
		a.step("agent", failed, "it is paused")
		a.found(diagnosis.AgentPaused, "agent "+a.Agent+" is paused", "bouncer agent resume "+a.Agent)
	} else {
		a.step("agent", ok, "it is not paused")
	}
	passes, err := svc.Agents.Passes(ctx, by, a.Agent)
	if err != nil {
		return err
	}
	valid := 0
	var last *team.Pass
	for i, p := range passes {
		if p.State == "valid" {
			valid++
		}
		if last == nil || p.Used != nil && (last.Used == nil || p.Used.After(*last.Used)) {
			last = &passes[i]
		}
	}
	issue := "bouncer agent pass " + a.Agent
	switch {
	case valid > 0:
		a.step("pass", ok, fmt.Sprintf("%d valid", valid))
	case last == nil:
		a.step("pass", failed, "there is none")
		a.found(diagnosis.PassUnknown, "agent "+a.Agent+" has no pass, so nothing that it could show is known here", issue)
	case last.State == "revoked":
		a.step("pass", failed, "the last one was revoked")
		a.found(diagnosis.PassRevoked, "the pass of agent "+a.Agent+" was revoked on "+stamp(*last.Revoked), issue)
	default:
		a.step("pass", failed, "the last one has ended")
		a.found(diagnosis.PassExpired, "the pass of agent "+a.Agent+" ended on "+stamp(last.Expires), issue)
	}
	svc.turnedAway(a, valid > 0)
	return nil
}

// turnedAway tells of attempts with a pass that was this agent's.
func (svc *Service) turnedAway(a *answer, valid bool) {
	contact, seen := svc.Contact(a.agent.ID)
	for _, t := range svc.TurnedAway() {
		if t.Agent != a.Agent || seen && contact.Last.After(t.Last) {
			continue // it has come in since
		}
		cause := map[string]diagnosis.Cause{"revoked": diagnosis.PassRevoked, "expired": diagnosis.PassExpired}[t.Cause]
		if cause == "" || !valid {
			continue // without a valid pass that is told already
		}
		fact := fmt.Sprintf("turned away %d times, the last time on %s from %s", t.Times, stamp(t.Last), t.From)
		a.step("assistant", failed, "it shows a pass that is "+t.Cause)
		a.found(diagnosis.OldPass, "the assistant still shows a pass that is "+t.Cause+"; the agent has a valid one",
			"bouncer enrol "+a.Agent, fact)
		return
	}
}

// assistant looks at what is known of the program. What it returns tells of its list, where
// nothing else stands in the way.
func (svc *Service) assistant(a *answer, reach []apitype.ReachedTool) (later func()) {
	later = func() {}
	admitted := 0
	for _, t := range reach {
		if t.Admitted {
			admitted++
		}
	}
	c, seen := svc.Contact(a.agent.ID)
	switch {
	case !seen:
		a.step("assistant", failed, "it never came in")
		if len(a.Found) == 0 {
			a.found(diagnosis.NeverConnected, "the assistant never came in with a pass of agent "+a.Agent,
				"have it enrolled, or look at its file: bouncer enrol "+a.Agent+" --check")
		}
		return later
	case c.Stale:
		a.step("assistant", ok, fmt.Sprintf("%s %s, last seen %s", c.Client, c.Version, stamp(c.Last)))
		a.step("list", failed, fmt.Sprintf("it has a list of %d tools, and %d are offered now", c.Tools, admitted))
		later = func() {
			a.found(diagnosis.OldList, "the assistant has not fetched the present list of tools",
				"restart the assistant, or have it read its servers again",
				"it fetched a list of "+fmt.Sprint(c.Tools)+" tools")
		}
	default:
		a.step("assistant", ok, fmt.Sprintf("%s %s, last seen %s", c.Client, c.Version, stamp(c.Last)))
		a.step("list", ok, fmt.Sprintf("it has the present list of %d tools", c.Tools))
	}
	if admitted > manyTools && !a.agent.Finder && !c.Stale {
		a.found(diagnosis.TooManyTools, fmt.Sprintf("%d tools are offered, which is more than many assistants can hold", admitted),
			"bouncer agent update "+a.Agent+" --finder on")
	}
	return later
}

// tool looks at one tool.
func (svc *Service) tool(ctx context.Context, by team.Person, a *answer, reach []apitype.ReachedTool, name string) error {
	t, err := pick(reach, name)
	if err != nil {
		return err
	}
	a.Server, a.Tool, a.Exposed = t.Server, t.Tool, t.Exposed
	full := t.Server + "/" + t.Tool
	explain := fmt.Sprintf("bouncer rule explain %s %s --server %s", a.Agent, t.Tool, t.Server)
	switch {
	case t.Next == "paused": // whatever rules say
	case t.Effect == "refuse" && t.RuleName != "":
		a.step("rule", failed, t.Why)
		a.found(diagnosis.RuleRefuses, "rule "+t.RuleName+" refuses "+full+" to agent "+a.Agent, explain, t.Why)
	case !t.Admitted && t.RuleName == "":
		a.step("rule", failed, t.Why)
		a.found(diagnosis.NoRule, "no rule admits "+full+" to agent "+a.Agent, explain, t.Why)
	case !t.Admitted:
		a.step("rule", failed, t.Why)
		a.found(diagnosis.RuleRefuses, full+" is not within reach of agent "+a.Agent+": "+t.Why, explain)
	case t.Effect == "hold":
		a.step("rule", ok, "calls wait for a decision: "+t.Why)
	default:
		a.step("rule", ok, t.Why)
	}
	switch t.Next {
	case "spent":
		a.step("budget", failed, t.Lacks)
		a.found(diagnosis.BudgetSpent, "a budget is spent: "+t.Lacks, "bouncer budget list")
	case "no-credential":
		a.step("credential", failed, t.Lacks)
		a.found(diagnosis.SignInNeeded, t.Lacks, "bouncer sign-in begin "+t.Server)
	case "paused":
		if a.agent.Paused {
			break // which is told already
		}
		a.step("server", failed, "it is paused")
		a.found(diagnosis.ServerPaused, "server "+t.Server+" is paused", "bouncer server resume "+t.Server)
	default:
		svc.server(ctx, by, a, t)
	}
	return svc.recent(ctx, by, a, journal.Query{Agent: a.Agent, Server: t.Server, Tool: t.Tool, Limit: 20})
}

// server looks at the server behind a tool, as the agent reaches it.
func (svc *Service) server(_ context.Context, _ team.Person, a *answer, t apitype.ReachedTool) {
	for _, s := range svc.Registry.Current().Sorted() {
		if s.Name != t.Server {
			continue
		}
		if known := svc.Registry.Current().Agents[a.agent.ID]; known != nil {
			s = s.For(known)
		}
		if s.Connection == nil {
			return
		}
		st := s.Connection.Status()
		if st.State == team.StateFailing && st.Finding != nil {
			a.step("server", failed, st.Finding.Message)
			a.Found = append(a.Found, report.FoundOf(*st.Finding))
			return
		}
		a.step("server", ok, st.State)
	}
}

// pick finds a tool by a name: SERVER/TOOL, the name that agents see, or the server's own
// where only one server has it.
func pick(reach []apitype.ReachedTool, name string) (apitype.ReachedTool, error) {
	var own []apitype.ReachedTool
	var names []string
	for _, t := range reach {
		if t.Exposed == name || t.Server+"/"+t.Tool == name {
			return t, nil
		}
		if t.Tool == name {
			own = append(own, t)
		}
		names = append(names, t.Exposed, t.Server+"/"+t.Tool, t.Tool)
	}
	if len(own) == 1 {
		return own[0], nil
	}
	if len(own) > 1 {
		var where []string
		for _, t := range own {
			where = append(where, t.Server+"/"+t.Tool)
		}
		return apitype.ReachedTool{}, &team.ConflictError{
			Field: "tool", Why: fmt.Sprintf("several servers have a tool %q", name), Hint: "name one: " + strings.Join(where, ", "),
		}
	}
	if best := near.Nearest(name, names); best != "" {
		return apitype.ReachedTool{}, &team.FieldError{
			Field: "tool", Why: fmt.Sprintf("%q is nothing that is offered; perhaps %s was meant", name, best),
		}
	}
	return apitype.ReachedTool{}, &team.NotFoundError{Kind: "tool", Name: name}
}

// recent looks at the last calls on record.
func (svc *Service) recent(ctx context.Context, by team.Person, a *answer, q journal.Query) error {
	calls, err := svc.Calls.Calls(ctx, by, q)
	if err != nil {
		return err
	}
	if len(calls) == 0 {
		a.step("calls", unknown, "none on record")
		return nil
	}
	bad, gaveUp := 0, 0
	var last *team.Call
	for i, c := range calls {
		if c.Outcome == team.OutcomeOK {
			continue
		}
		if bad++; last == nil {
			last = &calls[i]
		}
		if c.Outcome == team.OutcomeCancelled {
			gaveUp++
		}
	}
	text := fmt.Sprintf("of the last %d, %d did not go well", len(calls), bad)
	outcome := ok
	if last != nil {
		text += "; the last such: " + last.Server + "/" + last.Tool + ", " + last.Outcome
		if last.Error != "" {
			text += ": " + last.Error
		}
	}
	if calls[0].Outcome != team.OutcomeOK {
		outcome = failed
	}
	a.step("calls", outcome, text)
	switch {
	case len(a.Found) > 0 || calls[0].Outcome == team.OutcomeOK:
	case gaveUp*2 > len(calls):
		a.found(diagnosis.GaveUp, "the assistant gives up before answers come", "give it a longer time limit in its own settings", text)
	case calls[0].Decision == "held":
		a.found(diagnosis.HeldUndecided, "the last call was held, and nobody decided in time", "bouncer held list --all", text)
	case calls[0].Outcome == team.OutcomeToolError:
		a.found(diagnosis.ToolError, "the tool reports an error of its own: "+calls[0].Error,
			"bouncer journal --server "+calls[0].Server+" --tool "+calls[0].Tool, text)
	}
	return nil
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

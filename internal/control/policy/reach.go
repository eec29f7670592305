package policy

import (
	"context"

	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/snapshot"
	"bouncer/internal/upstream"
)

// Reach returns every tool of every server, with whether the agent can use it, by
// the snapshot that its next call is decided by.
func (svc *Service) Reach(ctx context.Context, by team.Person, agent string) ([]apitype.ReachedTool, error) {
	a, err := svc.agents.Agent(ctx, by, agent)
	if err != nil {
		return nil, err
	}
	now := svc.registry.Current()
	known := now.Agents[a.ID]
	if known == nil {
		return nil, &team.NotFoundError{Kind: "agent", Name: agent} // it was removed at this moment
	}
	how := svc.coming(known)
	out := []apitype.ReachedTool{}
	for _, s := range now.Sorted() {
		s = s.For(known)
		for i, t := range now.Targets(known, how, s, tools.Tools) {
			out = append(out, svc.reached(known, s, s.Offer.Lists[tools.Tools][i], t))
		}
	}
	return out, nil
}

func (svc *Service) reached(a *snapshot.Agent, s *snapshot.Server, tool tools.Tool, t *snapshot.Target) apitype.ReachedTool {
	sum := tool.Summary()
	r := apitype.ReachedTool{
		Server: s.Name, Tool: tool.Name, Exposed: s.Exposes(tools.Tools, tool.Name), Title: sum.Title, Description: sum.Description,
		Destructive: sum.Destructive, ReadOnly: sum.ReadOnly, Admitted: t.Admitted(), Effect: string(t.Decision.Effect),
		Depends: t.Decision.Depends,
		Rule:    t.Decision.RuleID(), RuleName: t.Decision.RuleName(), Why: t.Reason(), Narrowed: t.Shape.Rules(),
		Tags: s.Tags[tools.Tools.Rule(tool.Name)],
	}
	if !r.Admitted {
		r.Effect = string(rules.Refuse)
	}
	// The same order as a call is decided in.
	switch {
	case a.Paused:
		r.Admitted, r.Next, r.Why = false, "paused", "the agent is paused"
	case !r.Admitted:
		r.Next = "refused"
	case s.Paused:
		r.Admitted, r.Next, r.Why = false, "paused", "the server is paused"
	case s.Missing != nil:
		r.Next, r.Lacks = "no-credential", s.Missing.Text
	default:
		if e := svc.budgets.Spent(t.Budgets, a.Subject()); e != nil {
			r.Next, r.Lacks = "spent", e.Text
			break
		}
		if r.Next, r.Lacks = health(s.Connection); r.Next == "answer" && r.Effect == string(rules.Hold) {
			r.Next = "held"
		}
	}
	return r
}

// health tells whether a call would get an answer over a connection, by what is known
// of it now.
func health(c *upstream.Connection) (next, lacks string) {
	if c == nil {
		return "unreachable", "there is no connection to it"
	}
	st := c.Status()
	if st.State != team.StateFailing || st.Finding == nil {
		return "answer", ""
	}
	if st.Finding.Cause.OfCredential() {
		return "no-credential", st.Finding.Message
	}
	return "unreachable", st.Finding.Message
}

package policy

import (
	"context"
	"net/netip"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/near"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/snapshot"
)

// Explain tells whether an agent may use a tool, by which rule, which almost decided, and
// what would have to change. It is what the agent's next call meets.
func (svc *Service) Explain(ctx context.Context, by team.Person, q apitype.ExplainQuery) (apitype.Explained, error) {
	a, err := svc.agents.Agent(ctx, by, q.Agent)
	if err != nil {
		return apitype.Explained{}, err
	}
	now := svc.registry.Current()
	known := now.Agents[a.ID]
	if known == nil {
		return apitype.Explained{}, &team.NotFoundError{Kind: "agent", Name: q.Agent} // it was removed at this moment
	}
	s, o, err := findTool(now, known, q.Server, q.Tool)
	if err != nil {
		return apitype.Explained{}, err
	}
	how := svc.coming(known)
	if q.Client != "" {
		how.Client = q.Client
	}
	if q.Revision != "" {
		how.Revision = q.Revision
	}
	if q.From != "" {
		if how.Address, err = netip.ParseAddr(q.From); err != nil {
			return apitype.Explained{}, &team.FieldError{Field: "from", Why: "is no address; one looks like 10.20.1.2"}
		}
	}
	how.Present = how.Present || q.Present
	e := now.Rules.Explain(rules.Question{
		Who: known.Subject(), How: how, Host: s.Host(), What: o, Arguments: q.Arguments, Now: svc.registry.Now(),
	})
	out := apitype.Explained{Agent: a.Name, Server: s.Name, Tool: o.Name, Contacts: now.Contacts, Explanation: e}
	if o.Tool {
		out.Exposed = s.Exposes(tools.Tools, o.Name)
	}
	return out, nil
}

// findTool finds something that a server offers by its own name, by the name that rules
// know it by, or by the one that agents see. A resource need not be listed.
func findTool(now *snapshot.Snapshot, a *snapshot.Agent, server, tool string) (*snapshot.Server, rules.Object, error) {
	var names []string
	for _, s := range now.Sorted() {
		if server != "" && s.Name != server {
			continue
		}
		s = s.For(a)
		for _, kind := range tools.Kinds {
			for i, o := range s.Objects(kind) {
				own := s.Offer.Lists[kind][i].Name
				seen := server == "" && (kind == tools.Tools || kind == tools.Prompts) && s.Exposes(kind, own) == tool
				if o.Name == tool && server != "" || seen {
					return s, o, nil
				}
				names = append(names, o.Name)
			}
		}
	}
	if server == "" {
		if name, rest, ok := strings.Cut(tool, "__"); ok && now.Servers[name] != nil {
			return findTool(now, a, name, rest)
		}
		return nil, rules.Object{}, &team.FieldError{Field: "server", Why: "is missing, and " + tool + " is no name that agents see"}
	}
	s := now.Servers[server]
	if s == nil {
		return nil, rules.Object{}, &team.NotFoundError{Kind: "server", Name: server}
	}
	if strings.HasPrefix(tool, tools.Resources.Rule("")) {
		return s.For(a), rules.Object{Name: tools.Resources.Rule(strings.TrimPrefix(tool, tools.Resources.Rule("")))}, nil
	}
	missing := &team.NotFoundError{Kind: "tool", Name: server + "/" + tool}
	if meant := near.Nearest(tool, names); meant != "" {
		return nil, rules.Object{}, &team.FieldError{
			Field: "tool", Why: "is " + tool + ", which " + server + " does not have; perhaps " + meant + " was meant",
		}
	}
	return nil, rules.Object{}, missing
}

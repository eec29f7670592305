// Package cost tells what each agent's list of tools takes of its model's context window,
// and what would make it less.
package cost

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/core/cost"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/snapshot"
	"bouncer/internal/store"
)

// mostDays is for how long calls are counted.
const mostDays = 30

// Service tells. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	agents   *agents.Service
	coming   func(*snapshot.Agent) rules.Circumstances
}

// New returns the service. coming are the circumstances of an agent's next call.
func New(s *store.Store, r *registry.Registry, a *agents.Service, coming func(*snapshot.Agent) rules.Circumstances) *Service {
	return &Service{s, r, a, coming}
}

// All tells of every agent that somebody may see, what takes most first.
func (svc *Service) All(ctx context.Context, by team.Person) ([]apitype.AgentCost, error) {
	list, err := svc.agents.Agents(ctx, by)
	if err != nil {
		return nil, err
	}
	now := svc.registry.Current()
	out := []apitype.AgentCost{}
	for _, a := range list {
		if known := now.Agents[a.ID]; known != nil {
			out = append(out, summed(a, svc.listOf(now, known)))
		}
	}
	slices.SortStableFunc(out, func(a, b apitype.AgentCost) int { return cmp.Compare(b.Tokens, a.Tokens) })
	return out, nil
}

// Of tells of one agent, tool by tool.
func (svc *Service) Of(ctx context.Context, by team.Person, name string) (apitype.CostDetail, error) {
	a, err := svc.agents.Agent(ctx, by, name)
	if err != nil {
		return apitype.CostDetail{}, err
	}
	now := svc.registry.Current()
	known := now.Agents[a.ID]
	if known == nil {
		return apitype.CostDetail{}, &team.NotFoundError{Kind: "agent", Name: name} // it was removed at this moment
	}
	at := svc.registry.Now()
	l := svc.listOf(now, known)
	l.Window = a.ContextTokens
	l.Days = min(int(at.Sub(a.Created)/(24*time.Hour)), mostDays)
	used, err := calls.In(svc.store).UsedBy(ctx, a.Name, at.Add(-mostDays*24*time.Hour))
	if err != nil {
		return apitype.CostDetail{}, fmt.Errorf("count the calls of %s: %w", a.Name, err)
	}
	out := apitype.CostDetail{AgentCost: summed(a, l), Days: l.Days, Servers: []apitype.ServerCost{}, List: []apitype.ToolCost{}}
	place := map[string]int{}
	for i := range l.Tools {
		t := &l.Tools[i]
		t.Calls = used[calls.Tool{Server: t.Server, Tool: t.Name}]
		out.List = append(out.List, apitype.ToolCost{Server: t.Server, Tool: t.Name, Tokens: t.Tokens, Calls: t.Calls})
		k, ok := place[t.Server]
		if !ok {
			k = len(out.Servers)
			place[t.Server] = k
			out.Servers = append(out.Servers, apitype.ServerCost{Server: t.Server})
		}
		s := &out.Servers[k]
		s.Tools, s.Tokens, s.Calls = s.Tools+1, s.Tokens+t.Tokens, s.Calls+t.Calls
	}
	slices.SortStableFunc(out.List, func(a, b apitype.ToolCost) int { return cmp.Compare(b.Tokens, a.Tokens) })
	slices.SortStableFunc(out.Servers, func(a, b apitype.ServerCost) int { return cmp.Compare(b.Tokens, a.Tokens) })
	out.Suggestions = append([]cost.Suggestion{}, cost.Suggest(l)...)
	return out, nil
}

func summed(a team.Agent, l cost.List) apitype.AgentCost {
	out := apitype.AgentCost{
		Agent: a.Name, Owner: a.Owner, Finder: a.Finder, Tools: len(l.Tools), All: l.Tokens(), ContextTokens: a.ContextTokens, Basis: cost.Basis,
	}
	if out.Tokens = out.All; a.Finder {
		out.Tokens = l.FinderTokens
	}
	if a.ContextTokens > 0 {
		out.Share = float64(out.Tokens) / float64(a.ContextTokens)
	}
	return out
}

// listOf is the agent's list as its next request of it is answered.
func (svc *Service) listOf(now *snapshot.Snapshot, a *snapshot.Agent) cost.List {
	l := cost.List{Agent: a.Name, Finder: a.Finder, FinderTokens: cost.Tokens(snapshot.FinderList())}
	if a.Paused {
		return l
	}
	for _, t := range now.ReachOf(a, svc.coming(a)).Catalog("").Targets(tools.Tools) {
		sum := t.Tool.Summary()
		one := cost.Tool{
			Server: t.Server.Name, Name: t.Tool.Name, Title: sum.Title, Description: sum.Description,
			Tokens: cost.Tokens(t.Tool.Renamed(tools.Tools, t.Exposed)),
		}
		var schema struct{ Properties map[string]json.RawMessage }
		if json.Unmarshal(t.Tool.Member("inputSchema"), &schema) == nil {
			for name := range schema.Properties {
				one.Arguments = append(one.Arguments, name)
			}
		}
		l.Tools = append(l.Tools, one)
	}
	return l
}

package servers

import (
	"context"
	"fmt"
	"time"

	"bouncer/internal/core/access"
	"bouncer/internal/core/lint"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/store"
)

// Lint looks at the tool list of a server for flaws, also against the windows of the
// agents that the person may see.
func (svc *Service) Lint(ctx context.Context, by team.Person, name string) ([]lint.Flaw, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	list, err := svc.store.Edition(ctx, s.ID)
	if c, _ := svc.pool.Best(s.ID); c != nil {
		list, err = c.Status().Offer.Lists[tools.Tools], nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the tools of server %s: %w", name, err)
	}
	agents, err := svc.store.Agents(ctx, time.Now())
	if err != nil {
		return nil, fmt.Errorf("read the agents: %w", err)
	}
	var windows []lint.Window
	for _, a := range agents {
		if access.May(by, access.SeeAgents, a.Owner) && !a.Finder {
			windows = append(windows, lint.Window{Agent: a.Name, Tokens: a.ContextTokens})
		}
	}
	return lint.Check(list, windows), nil
}

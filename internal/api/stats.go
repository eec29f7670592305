package api

import (
	"bouncer/internal/api/reading"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/observe/stats"
)

// statsRoutes are the rows of how calls went over time.
func statsRoutes(svc *stats.Service) []route {
	return []route{{
		method: get, path: "/api/stats", id: "callStats", action: access.SeeCalls,
		summary: "How calls went over time: how many, how they ended, how long they took; kept for 400 days",
		query: []queryField{
			{"since", "from this time on (RFC 3339); the last day if left out"},
			{"until", "before this time (RFC 3339); now if left out"},
			{"by", "what is told apart: server, tool, agent or person; server if left out"},
			{"server", "only calls to this server"},
			{"tool", "only tools that match this glob"},
			{"agent", "only this agent's calls"},
			{"took", "true for how often which length of time occurred besides, so that answers of several services can be added up"},
		},
		out: apitype.Stats{}, status: 200,
		handle: func(c *call) (any, error) {
			v := c.URL.Query()
			q := stats.Query{By: v.Get("by"), Server: v.Get("server"), Tool: v.Get("tool"), Agent: v.Get("agent")}
			var err error
			if q.Took, err = reading.Yes(c.Request, "took"); err != nil {
				return nil, err
			}
			if q.Since, q.Until, err = reading.Between(c.Request); err != nil {
				return nil, err
			}
			return svc.Stats(c.Context(), c.person, q)
		},
	}}
}

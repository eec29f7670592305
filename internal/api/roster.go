package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/roster"
	"bouncer/internal/core/access"
)

// rosterRoutes are the rows of the roster.
func rosterRoutes(svc *roster.Service) []route {
	return []route{
		{
			method: get, path: "/api/roster", id: "exportRoster", action: access.KeepRoster,
			summary: "What there is, as a roster: servers, people, agents and rules; secrets by their names",
			out:     apitype.Roster{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Export(c.Context()) },
		},
		{
			method: post, path: "/api/roster/plan", id: "planRoster", action: access.KeepRoster,
			summary: "What would be done to have it as a roster says",
			in:      apitype.Roster{}, out: apitype.RosterPlan{}, status: 200,
			handle: with(func(c *call, in apitype.Roster) (any, error) { return svc.Plan(c.Context(), in) }),
		},
		{
			method: post, path: "/api/roster/apply", id: "applyRoster", action: access.KeepRoster,
			summary: "Have it as a roster says: all of it, or nothing",
			in:      apitype.Roster{}, out: apitype.RosterApplied{}, status: 200,
			handle: with(func(c *call, in apitype.Roster) (any, error) { return svc.Apply(c.Context(), c.person, in) }),
		},
	}
}

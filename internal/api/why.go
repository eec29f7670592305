package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/diagnose/why"
)

// whyRoutes are the rows of what agents meet.
func whyRoutes(svc *why.Service) []route {
	return []route{
		{
			method: get, path: "/api/agents/{name}/why", id: "whyAgent", action: access.SeeAgents,
			summary: "Why an agent can or cannot use something, from its pass to the server",
			query:   []queryField{{"tool", "a tool, as SERVER/TOOL or by the name that agents see; none for the agent as a whole"}},
			out:     apitype.Why{}, status: 200,
			handle: func(c *call) (any, error) {
				return svc.Ask(c.Context(), c.person, c.name("name"), c.URL.Query().Get("tool"))
			},
		},
		{
			method: get, path: "/api/people/{name}/why-not/{other}", id: "comparePeople", action: access.SeeAgents,
			summary: "The first difference that matters between two people: works for one, and not for the other",
			query:   []queryField{{"tool", "a tool, as SERVER/TOOL or by the name that agents see"}},
			out:     apitype.WhyDiffers{}, status: 200,
			handle: func(c *call) (any, error) {
				return svc.DifferPeople(c.Context(), c.person, c.name("name"), c.name("other"), c.URL.Query().Get("tool"))
			},
		},
		{
			method: get, path: "/api/agents/{name}/why-not/{other}", id: "compareAgents", action: access.SeeAgents,
			summary: "The first difference that matters between two agents: works for one, and not for the other",
			query:   []queryField{{"tool", "a tool, as SERVER/TOOL or by the name that agents see"}},
			out:     apitype.WhyDiffers{}, status: 200,
			handle: func(c *call) (any, error) {
				return svc.Differ(c.Context(), c.person, c.name("name"), c.name("other"), c.URL.Query().Get("tool"))
			},
		},
	}
}

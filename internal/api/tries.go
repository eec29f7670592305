package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/diagnose/tryout"
)

// tryRoutes are the rows of trying things by hand.
func tryRoutes(svc *tryout.Service) []route {
	return []route{{
		method: post, path: "/api/tries", id: "tryTool", action: access.SpeakForAgents,
		summary: "Try a tool, a prompt or a resource as an agent, without a model; its rules, budgets and holds are in force, and it is on record",
		in:      apitype.Try{}, out: apitype.Tried{}, status: 200,
		handle: with(func(c *call, in apitype.Try) (any, error) { return svc.Run(c.Context(), c.person, in) }),
	}}
}

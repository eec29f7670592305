package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/example"
	"bouncer/internal/diagnose/tryout"
)

// tryRoutes are the rows of trying things by hand.
func tryRoutes(svc *tryout.Service, examples *example.Service) []route {
	return []route{{
		method: get, path: "/api/servers/{name}/examples", id: "listExamples", action: access.SeeServers,
		summary: "The calls that are kept as examples of a server's tools",
		out:     []team.Example{}, status: 200,
		handle: func(c *call) (any, error) { return examples.List(c.Context(), c.name("name")) },
	}, {
		method: put, path: "/api/servers/{name}/examples/{example}", id: "keepExample", action: access.KeepServers,
		summary: "Keep a call as an example, in the place of one of the same name",
		in:      apitype.KeepExample{}, out: team.Example{}, status: 200,
		handle: with(func(c *call, in apitype.KeepExample) (any, error) {
			return examples.Keep(c.Context(), c.person, c.name("name"), c.name("example"), in)
		}),
	}, {
		method: del, path: "/api/servers/{name}/examples/{example}", id: "removeExample", action: access.KeepServers,
		summary: "Remove an example", status: 204,
		handle: func(c *call) (any, error) {
			return nil, examples.Remove(c.Context(), c.person, c.name("name"), c.name("example"))
		},
	}, {
		method: post, path: "/api/tries", id: "tryTool", action: access.SpeakForAgents,
		summary: "Try a tool, a prompt or a resource as an agent, without a model; its rules, budgets and holds are in force, and it is on record",
		in:      apitype.Try{}, out: apitype.Tried{}, status: 200,
		handle: with(func(c *call, in apitype.Try) (any, error) { return svc.Run(c.Context(), c.person, in) }),
	}}
}

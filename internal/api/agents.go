package api

import (
	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/team"
)

// agentRoutes are the rows of the agents, their passes and their reach.
func agentRoutes(svc *agents.Service, rules *policy.Service) []route {
	return []route{
		{
			method: get, path: "/api/agents", id: "listAgents", summary: "The agents you may see",
			out: []team.Agent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Agents(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/agents", id: "addAgent", summary: "Add an agent",
			roles: members, in: apitype.NewAgent{}, out: team.Agent{}, status: 201,
			handle: with(func(c *call, in apitype.NewAgent) (any, error) { return svc.AddAgent(c.Context(), c.person, in) }),
		},
		{
			method: get, path: "/api/agents/{name}", id: "getAgent", summary: "One agent",
			out: team.Agent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Agent(c.Context(), c.person, c.name("name")) },
		},
		{
			method: patch, path: "/api/agents/{name}", id: "updateAgent", summary: "Alter an agent: kind, owner, pause or resume",
			roles: members, in: apitype.AgentPatch{}, out: team.Agent{}, status: 200,
			handle: with(func(c *call, in apitype.AgentPatch) (any, error) {
				return svc.UpdateAgent(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: del, path: "/api/agents/{name}", id: "removeAgent", summary: "Remove an agent and its passes",
			roles: members, status: 204,
			handle: func(c *call) (any, error) { return nil, svc.RemoveAgent(c.Context(), c.person, c.name("name")) },
		},
		{
			method: get, path: "/api/agents/{name}/reach", id: "getReach",
			summary: "Every tool, with whether the agent can use it and why",
			out:     []apitype.ReachedTool{}, status: 200,
			handle: func(c *call) (any, error) { return rules.Reach(c.Context(), c.person, c.name("name")) },
		},
		{
			method: get, path: "/api/agents/{name}/passes", id: "listPasses", summary: "The agent's passes",
			out: []team.Pass{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Passes(c.Context(), c.person, c.name("name")) },
		},
		{
			method: post, path: "/api/agents/{name}/passes", id: "makePass",
			summary: "Make a pass; its token is given out this once",
			roles:   members, in: apitype.NewPass{}, out: apitype.IssuedPass{}, status: 201,
			handle: with(func(c *call, in apitype.NewPass) (any, error) { return makePass(c, svc, in) }),
		},
		{
			method: del, path: "/api/agents/{name}/passes/{id}", id: "revokePass",
			summary: "Revoke a pass; the next call with it is refused",
			roles:   members, status: 204,
			handle: func(c *call) (any, error) {
				return nil, svc.RevokePass(c.Context(), c.person, c.name("name"), c.name("id"))
			},
		},
	}
}

func makePass(c *call, svc *agents.Service, in apitype.NewPass) (any, error) {
	p, token, err := svc.NewPass(c.Context(), c.person, c.name("name"), in.Label, in.Days, in.InAddress)
	out := apitype.IssuedPass{Pass: p, Token: token}
	if in.InAddress {
		out.URL = c.api.o.Address + "/in/" + token + "/mcp"
	}
	return out, err
}

package api

import (
	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// agentRoutes are the rows of the agents, their passes and their reach.
func agentRoutes(svc *agents.Service, rules *policy.Service) []route {
	return []route{
		{
			method: get, path: "/api/agents", id: "listAgents", action: access.SeeAgents, summary: "The agents you may see",
			out: []team.Agent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Agents(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/agents", id: "addAgent", action: access.KeepAgents, summary: "Add an agent",
			in: apitype.NewAgent{}, out: team.Agent{}, status: 201,
			handle: with(func(c *call, in apitype.NewAgent) (any, error) { return svc.AddAgent(c.Context(), c.person, in) }),
		},
		{
			method: get, path: "/api/agents/{name}", id: "getAgent", action: access.SeeAgents, summary: "One agent",
			out: team.Agent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Agent(c.Context(), c.person, c.name("name")) },
		},
		{
			method: patch, path: "/api/agents/{name}", id: "updateAgent", action: access.KeepAgents,
			summary: "Alter an agent: kind, owner, pause or resume",
			in:      apitype.AgentPatch{}, out: team.Agent{}, status: 200,
			handle: with(func(c *call, in apitype.AgentPatch) (any, error) {
				return svc.UpdateAgent(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: get, path: "/api/agents/{name}/dependents", id: "listAgentDependents", action: access.KeepAgents,
			summary: "What hangs on an agent, and what a removal makes of it",
			out:     []team.Dependent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Dependents(c.Context(), c.person, c.name("name")) },
		},
		{
			method: del, path: "/api/agents/{name}", id: "removeAgent", action: access.KeepAgents,
			summary: "Remove an agent and its passes",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.RemoveAgent(c.Context(), c.person, c.name("name")) },
		},
		{
			method: get, path: "/api/agents/{name}/reach", id: "getReach", action: access.SeeAgents,
			summary: "Every tool, with whether the agent can use it and why",
			out:     []apitype.ReachedTool{}, status: 200,
			handle: func(c *call) (any, error) { return rules.Reach(c.Context(), c.person, c.name("name")) },
		},
		{
			method: get, path: "/api/agents/{name}/contact", id: "getContact", action: access.SeeAgents,
			summary: "How the agent was last seen since the service started",
			out:     team.Contact{}, status: 200,
			handle: func(c *call) (any, error) {
				a, err := svc.Agent(c.Context(), c.person, c.name("name"))
				if err != nil {
					return nil, err
				}
				seen, _ := c.api.s.Contact(a.ID) // without one, nothing was seen
				return seen, nil
			},
		},
		{
			method: get, path: "/api/agents/{name}/passes", id: "listPasses", action: access.SeeAgents,
			summary: "The agent's passes",
			out:     []team.Pass{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Passes(c.Context(), c.person, c.name("name")) },
		},
		{
			method: post, path: "/api/agents/{name}/passes", id: "makePass", action: access.SpeakForAgents,
			summary: "Make a pass; its token is given out this once",
			in:      apitype.NewPass{}, out: apitype.IssuedPass{}, status: 201,
			handle: with(func(c *call, in apitype.NewPass) (any, error) { return makePass(c, svc, in) }),
		},
		{
			method: del, path: "/api/agents/{name}/passes/{id}", id: "revokePass", action: access.KeepAgents,
			summary: "Revoke a pass; the next call with it is refused",
			status:  204,
			handle: func(c *call) (any, error) {
				return nil, svc.RevokePass(c.Context(), c.person, c.name("name"), c.name("id"))
			},
		},
	}
}

func makePass(c *call, svc *agents.Service, in apitype.NewPass) (any, error) {
	p, token, err := svc.NewPass(c.Context(), c.person, c.name("name"), in)
	out := apitype.IssuedPass{Pass: p, Token: token}
	if in.InAddress {
		out.URL = c.api.o.Address + "/in/" + token + "/mcp"
	}
	return out, err
}

package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/secrets"
)

// secretRoutes are the rows of the secrets and the locker.
func secretRoutes(svc *secrets.Service) []route {
	return []route{
		{
			method: get, path: "/api/secrets", id: "listSecrets", action: access.SeeSecrets,
			summary: "All secrets, without their values; members see their own",
			out:     []team.Secret{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/secrets", id: "addSecret", action: access.AddSecrets, summary: "Store a secret",
			in: apitype.NewSecret{}, out: team.Secret{}, status: 201,
			handle: with(func(c *call, in apitype.NewSecret) (any, error) { return svc.Add(c.Context(), c.person, in) }),
		},
		{
			method: post, path: "/api/secrets/inspect", id: "inspectSecret", action: access.InspectSecrets,
			summary: "Look at a value without storing it",
			in:      apitype.InspectedValue{}, out: apitype.Inspection{}, status: 200,
			handle: with(func(c *call, in apitype.InspectedValue) (any, error) { return svc.Inspect(in.Kind, in.Value), nil }),
		},
		{
			method: put, path: "/api/secrets/{name}/value", id: "rotateSecret", action: access.RotateSecrets,
			summary: "Replace a value; it is tried on its servers first",
			in:      apitype.NewValue{}, out: team.Secret{}, status: 200,
			handle: with(func(c *call, in apitype.NewValue) (any, error) {
				return svc.Rotate(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: del, path: "/api/secrets/{name}", id: "removeSecret", action: access.RemoveSecrets,
			summary: "Remove a secret that no server is given",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.Remove(c.Context(), c.person, c.name("name")) },
		},
		{
			method: put, path: "/api/servers/{name}/own", id: "giveOwn", action: access.SupplyAgents,
			summary: "Store the credential that you, or one of your agents, use at a server instead of the team's",
			in:      apitype.OwnValue{}, out: team.Secret{}, status: 200,
			handle: with(func(c *call, in apitype.OwnValue) (any, error) {
				return svc.GiveOwn(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: del, path: "/api/servers/{name}/own", id: "dropOwn", action: access.SupplyAgents,
			summary: "Use the team's credential again",
			query:   []queryField{{"agent", "agent that it is for; yourself if left out"}}, status: 204,
			handle: func(c *call) (any, error) {
				return nil, svc.DropOwn(c.Context(), c.person, c.name("name"), c.URL.Query().Get("agent"))
			},
		},
		{
			method: get, path: "/api/locker", id: "getLocker", action: access.KeepLocker,
			summary: "The key set of the locker, without the keys",
			out:     apitype.KeySet{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Keys(c.Context()), nil },
		},
		{
			method: post, path: "/api/locker/rotate", id: "rotateKeys", action: access.KeepLocker,
			summary: "Put a new key in force and wrap everything with it",
			out:     apitype.KeySet{}, status: 200,
			handle: func(c *call) (any, error) { return svc.RotateKeys(c.Context(), c.person) },
		},
	}
}

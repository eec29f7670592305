package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// ruleRoutes are the rows of the rules.
func ruleRoutes(svc *policy.Service) []route {
	return []route{
		{
			method: get, path: "/api/rules", id: "listRules", action: access.SeeRules, summary: "All rules",
			out: []team.Rule{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Rules(c.Context()) },
		},
		{
			method: post, path: "/api/rules", id: "addRule", action: access.KeepRules,
			summary: "Add a rule; it is in force at once",
			in:      apitype.NewRule{}, out: team.Rule{}, status: 201,
			handle: with(func(c *call, in apitype.NewRule) (any, error) { return svc.AddRule(c.Context(), c.person, in) }),
		},
		{
			method: del, path: "/api/rules/{id}", id: "removeRule", action: access.KeepRules,
			summary: "Remove a rule; it is out of force at once",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.RemoveRule(c.Context(), c.person, c.name("id")) },
		},
	}
}

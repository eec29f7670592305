package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/access"
)

// ruleRoutes are the rows of the rules.
func ruleRoutes(svc *policy.Service) []route {
	return []route{
		{
			method: get, path: "/api/rules", id: "listRules", action: access.SeeRules, summary: "All rules, with what each is about now",
			out: []apitype.RuleInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Rules(c.Context()) },
		},
		{
			method: get, path: "/api/rules/{id}", id: "getRule", action: access.SeeRules,
			summary: "One rule, by its name or its id, with what it is about now",
			out:     apitype.RuleInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Rule(c.Context(), c.name("id")) },
		},
		{
			method: post, path: "/api/rules", id: "addRule", action: access.KeepRules,
			summary: "Add a rule; it is in force at once",
			in:      apitype.NewRule{}, out: apitype.RuleInfo{}, status: 201,
			handle: with(func(c *call, in apitype.NewRule) (any, error) { return svc.AddRule(c.Context(), c.person, in) }),
		},
		{
			method: patch, path: "/api/rules/{id}", id: "updateRule", action: access.KeepRules,
			summary: "Alter a rule, by its name or its id; it is in force at once",
			in:      apitype.RulePatch{}, out: apitype.RuleInfo{}, status: 200,
			handle: with(func(c *call, in apitype.RulePatch) (any, error) {
				return svc.UpdateRule(c.Context(), c.person, c.name("id"), in)
			}),
		},
		{
			method: del, path: "/api/rules/{id}", id: "removeRule", action: access.KeepRules,
			summary: "Remove a rule; it is out of force at once",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.RemoveRule(c.Context(), c.person, c.name("id")) },
		},
	}
}

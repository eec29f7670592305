package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/control/budget"
	"bouncer/internal/core/access"
)

// budgetRoutes are the rows of budgets.
func budgetRoutes(svc *budget.Service) []route {
	return []route{
		{
			method: get, path: "/api/budgets", id: "listBudgets", action: access.SeeRules, summary: "Budgets, with what is used of each",
			out: []apitype.BudgetInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Budgets(c.Context()) },
		},
		{
			method: post, path: "/api/budgets", id: "addBudget", action: access.KeepRules, summary: "Add a budget; calls count from now on",
			in: apitype.NewBudget{}, out: apitype.BudgetInfo{}, status: 201,
			handle: with(func(c *call, in apitype.NewBudget) (any, error) { return svc.Add(c.Context(), c.person, in) }),
		},
		{
			method: get, path: "/api/budgets/{name}", id: "getBudget", action: access.SeeRules, summary: "One budget, with what is used of it",
			out: apitype.BudgetInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Budget(c.Context(), c.name("name")) },
		},
		{
			method: patch, path: "/api/budgets/{name}", id: "updateBudget", action: access.KeepRules,
			summary: "Alter a budget; what is used of it stays used",
			in:      apitype.BudgetPatch{}, out: apitype.BudgetInfo{}, status: 200,
			handle: with(func(c *call, in apitype.BudgetPatch) (any, error) {
				return svc.Update(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: post, path: "/api/budgets/{name}/reset", id: "resetBudget", action: access.KeepRules,
			summary: "Have a budget begin anew for everybody",
			out:     apitype.BudgetInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Reset(c.Context(), c.person, c.name("name")) },
		},
		{
			method: del, path: "/api/budgets/{name}", id: "removeBudget", action: access.KeepRules, summary: "Remove a budget",
			status: 204,
			handle: func(c *call) (any, error) { return nil, svc.Remove(c.Context(), c.person, c.name("name")) },
		},
	}
}

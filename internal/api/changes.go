package api

import (
	"bouncer/internal/api/reading"
	"bouncer/internal/apitype"
	"bouncer/internal/changes"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// changeRoutes are the rows of what was altered.
func changeRoutes(svc *changes.Service) []route {
	return []route{
		{
			method: get, path: "/api/changes", id: "listChanges", action: access.SeeChanges,
			summary: "The newest alterations of Bouncer's own state",
			query:   []queryField{{"limit", "how many, 1 to 500; 100 if left out"}}, out: []team.Change{}, status: 200,
			handle: func(c *call) (any, error) {
				n, err := reading.Number(c.Request, "limit", 100, 1, 500)
				if err != nil {
					return nil, err
				}
				return svc.List(c.Context(), c.person, n)
			},
		},
		{
			method: post, path: "/api/changes/{id}/undo", id: "undoChange", action: access.UndoChanges,
			summary: "Put back what a change altered, if nothing was altered there since",
			in:      apitype.Undo{}, out: team.Change{}, status: 200,
			handle: with(func(c *call, in apitype.Undo) (any, error) {
				return svc.Undo(c.Context(), c.person, c.name("id"), in.Anyway)
			}),
		},
	}
}

package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/takeover"
	"bouncer/internal/core/access"
)

// adoptionRoutes are the rows of taking over what assistants have.
func adoptionRoutes(svc *takeover.Service) []route {
	return []route{{
		method: post, path: "/api/adoptions", id: "adoptFile", action: access.KeepServers,
		summary: "Take over what an assistant has in its file: servers, secrets and rules; the file comes back rewritten",
		in:      apitype.Adoption{}, out: apitype.Adopted{}, status: 200,
		handle: with(func(c *call, in apitype.Adoption) (any, error) { return svc.Adopt(c.Context(), c.person, in) }),
	}}
}

package api

import (
	"net/http"

	"bouncer/internal/api/openapi"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

func (a *API) serveDoc(w http.ResponseWriter, _ *call) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(a.doc)
}

// describe makes the OpenAPI document from the table of routes.
func (a *API) describe() ([]byte, error) {
	operations := make([]openapi.Operation, len(a.routes))
	for i, rt := range a.routes {
		operations[i] = openapi.Operation{
			Method: rt.method, Path: rt.path, ID: rt.id, Summary: rt.summary, Public: rt.public,
			In: rt.in, Out: rt.out, Status: rt.status, Media: rt.media,
		}
		for _, q := range rt.query {
			operations[i].Query = append(operations[i].Query, openapi.Field{Name: q.name, Doc: q.doc})
		}
		if roles := access.Roles(rt.action); !rt.public && !rt.self && len(roles) < len(team.Roles) {
			operations[i].Description = "For the roles " + roleWords(roles) + "."
		}
	}
	return openapi.Describe(openapi.Service{
		Title: "Bouncer", Version: a.o.Version, Description: "The register, the rules and the journal of Bouncer.",
		Address: a.o.Address, Cookie: Cookie, Problem: apitype.Problem{},
	}, operations)
}

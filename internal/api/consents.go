package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/authserver"
	"bouncer/internal/core/team"
)

// consentRoutes are the rows of what programs may do for agents.
func consentRoutes(svc *authserver.Service) []route {
	return []route{
		{
			method: get, path: "/api/consents", id: "listConsents",
			summary: "Programs that speak for agents because somebody agreed",
			out:     []team.Consent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Consents(c.Context(), c.person) },
		},
		{
			method: del, path: "/api/consents/{id}", id: "revokeConsent",
			summary: "End what a program may do; its next request is refused",
			roles:   members, status: 204,
			handle: func(c *call) (any, error) { return nil, svc.RevokeConsent(c.Context(), c.person, c.name("id")) },
		},
		{
			method: get, path: "/api/consent-requests/{id}", id: "getConsentRequest", summary: "What a program asks for",
			roles: members, out: apitype.ConsentRequest{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Consent(c.Context(), c.person, c.name("id")) },
		},
		{
			method: post, path: "/api/consent-requests/{id}", id: "decideConsent", summary: "Agree or decline",
			roles: members, in: apitype.Decision{}, out: apitype.SentTo{}, status: 200,
			handle: with(func(c *call, in apitype.Decision) (any, error) {
				to, err := svc.Decide(c.Context(), c.person, c.name("id"), in)
				return apitype.SentTo{URL: to}, err
			}),
		},
	}
}

package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/authserver"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// consentRoutes are the rows of what programs may do for agents.
func consentRoutes(svc *authserver.Service) []route {
	return []route{
		{
			method: get, path: "/api/consents", id: "listConsents", action: access.SeeConsents,
			summary: "Programs that speak for agents because somebody agreed",
			out:     []team.Consent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Consents(c.Context(), c.person) },
		},
		{
			method: del, path: "/api/consents/{id}", id: "revokeConsent", action: access.EndConsents,
			summary: "End what a program may do; its next request is refused",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.RevokeConsent(c.Context(), c.person, c.name("id")) },
		},
		{
			method: get, path: "/api/consent-requests/{id}", id: "getConsentRequest", action: access.SpeakForAgents,
			summary: "What a program asks for",
			out:     apitype.ConsentRequest{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Consent(c.Context(), c.person, c.name("id")) },
		},
		{
			method: post, path: "/api/consent-requests/{id}", id: "decideConsent", action: access.SpeakForAgents,
			summary: "Agree or decline",
			in:      apitype.Decision{}, out: apitype.SentTo{}, status: 200,
			handle: with(func(c *call, in apitype.Decision) (any, error) {
				to, err := svc.Decide(c.Context(), c.person, c.name("id"), in)
				return apitype.SentTo{URL: to}, err
			}),
		},
	}
}

package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/signin"
)

// signInRoutes are the rows of the sign-ins at servers.
func signInRoutes(svc *signin.Service) []route {
	return []route{
		{
			method: get, path: "/api/sign-ins", id: "listSignIns", action: access.SeeSignIns,
			summary: "Sign-ins at servers; what you have to do comes first",
			out:     []team.SignIn{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/sign-ins", id: "beginSignIn", action: access.MakeSignIns,
			summary: "Begin a sign-in at a server; the answer says where to send this browser",
			in:      apitype.SignInTry{}, out: apitype.SignInStart{}, status: 200,
			handle: with(func(c *call, in apitype.SignInTry) (any, error) {
				return svc.Begin(c.Context(), c.person, in, c.api.browser(c))
			}),
		},
		{
			method: del, path: "/api/sign-ins/{id}", id: "revokeSignIn", action: access.EndSignIns,
			summary: "End a sign-in, here and at its authorization server",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.Revoke(c.Context(), c.person, c.name("id")) },
		},
		{
			method: get, path: "/api/sign-in-problems/{id}", id: "getSignInProblem", summary: "Why a sign-in failed",
			public: true, out: team.SignInProblem{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Problem(c.name("id")) },
		},
	}
}

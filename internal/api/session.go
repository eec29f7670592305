package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/login"
)

// sessionRoutes are the rows of what lets people in and out.
func sessionRoutes(svc *login.Service) []route {
	return []route{
		{
			method: post, path: "/api/session", id: "signIn", summary: "Sign in to the console; sets a session cookie",
			public: true, in: apitype.Credentials{}, out: team.Person{}, status: 200,
			handle: with(func(c *call, in apitype.Credentials) (any, error) {
				token, p, err := svc.SignIn(c.Context(), in.Name, in.Password, "console", "console", c.from())
				if err != nil {
					return nil, err
				}
				c.api.setLogin(c.w, token)
				return p, nil
			}),
		},
		{
			method: get, path: "/api/session", id: "whoAmI", self: true, summary: "Who is signed in",
			fresh: true, out: team.Person{}, status: 200,
			handle: func(c *call) (any, error) { return c.person, nil },
		},
		{
			method: get, path: "/api/session/may", id: "whatMayI", self: true,
			summary: "What your role may do, and how far each action reaches",
			out:     map[access.Action]access.Scope{}, status: 200,
			handle: func(c *call) (any, error) { return access.Of(c.person.Role), nil },
		},
		{
			method: del, path: "/api/session", id: "signOut", self: true, summary: "End the present login",
			fresh: true, status: 204,
			handle: func(c *call) (any, error) {
				c.api.dropLogin(c.w)
				return nil, svc.SignOut(c.Context(), c.token)
			},
		},
		{
			method: put, path: "/api/session/password", id: "changePassword", self: true,
			summary: "Choose another password; ends all other logins",
			fresh:   true, in: apitype.NewPassword{}, status: 204,
			handle: with(func(c *call, in apitype.NewPassword) (any, error) {
				return nil, svc.ChangePassword(c.Context(), c.person, c.token, in.Old, in.New, c.from())
			}),
		},
		{
			method: post, path: "/api/tokens", id: "issueToken", summary: "Get a token for the command line",
			public: true, in: apitype.Credentials{}, out: apitype.IssuedToken{}, status: 201,
			handle: with(func(c *call, in apitype.Credentials) (any, error) {
				token, p, err := svc.SignIn(c.Context(), in.Name, in.Password, "token", in.Label, c.from())
				return apitype.IssuedToken{Token: token, Person: p}, err
			}),
		},
		{
			method: post, path: "/api/session/elsewhere", id: "signInElsewhere",
			summary: "Begin a sign-in to Bouncer through the identity provider",
			public:  true, in: apitype.ProviderSignIn{}, out: apitype.SentTo{}, status: 200,
			handle: with(func(c *call, in apitype.ProviderSignIn) (any, error) {
				to, err := svc.BeginLogin(c.Context(), c.api.browser(c), in.Back, c.from())
				return apitype.SentTo{URL: to}, err
			}),
		},
		{
			method: post, path: "/api/session/tie", id: "tieMyself", self: true,
			summary: "Begin to tie yourself to who you are at the identity provider, by signing in there",
			in:      apitype.ProviderSignIn{}, out: apitype.SentTo{}, status: 200,
			handle: with(func(c *call, in apitype.ProviderSignIn) (any, error) {
				to, err := svc.BeginTie(c.Context(), c.person, c.api.browser(c), in.Back, c.from())
				return apitype.SentTo{URL: to}, err
			}),
		},
		{
			method: get, path: "/api/logins", id: "listLogins", action: access.SeeLogins,
			summary: "Open logins: your own, and everybody's for admins",
			out:     []team.Login{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Logins(c.Context(), c.person, c.token) },
		},
		{
			method: del, path: "/api/logins/{id}", id: "endLogin", action: access.EndLogins, summary: "End a login at once",
			status: 204,
			handle: func(c *call) (any, error) { return nil, svc.EndLogin(c.Context(), c.person, c.name("id")) },
		},
	}
}

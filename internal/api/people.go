package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/login"
	"bouncer/internal/people"
)

// peopleRoutes are the rows of the people.
func peopleRoutes(svc *people.Service, logins *login.Service) []route {
	return []route{
		{
			method: get, path: "/api/people", id: "listPeople", action: access.SeePeople, summary: "Everybody in the team",
			out: []team.Person{}, status: 200,
			handle: func(c *call) (any, error) { return svc.People(c.Context()) },
		},
		{
			method: post, path: "/api/people", id: "addPerson", action: access.KeepPeople,
			summary: "Add somebody; gives a one-time password",
			in:      apitype.NewPerson{}, out: apitype.AddedPerson{}, status: 201,
			handle: with(func(c *call, in apitype.NewPerson) (any, error) {
				p, password, err := logins.AddPerson(c.Context(), c.person, in)
				return apitype.AddedPerson{Person: p, Password: password}, err
			}),
		},
		{
			method: patch, path: "/api/people/{name}", id: "updatePerson", action: access.KeepPeople,
			summary: "Alter a person: full name, role",
			in:      apitype.PersonPatch{}, out: team.Person{}, status: 200,
			handle: with(func(c *call, in apitype.PersonPatch) (any, error) {
				return svc.UpdatePerson(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: post, path: "/api/people/{name}/password", id: "resetPassword", action: access.KeepPeople,
			summary: "Give somebody a new one-time password; ends their logins",
			out:     apitype.ResetPassword{}, status: 200,
			handle: func(c *call) (any, error) {
				p, err := logins.ResetPassword(c.Context(), c.person, c.name("name"))
				return apitype.ResetPassword{Password: p}, err
			},
		},
		{
			method: put, path: "/api/people/{name}/subject", id: "tiePerson", action: access.KeepPeople,
			summary: "Say who somebody is at the identity provider, after a sign-in there was refused because of the name",
			in:      apitype.Tie{}, out: team.Person{}, status: 200,
			handle: with(func(c *call, in apitype.Tie) (any, error) {
				return logins.Tie(c.Context(), c.person, c.name("name"), in.Subject)
			}),
		},
		{
			method: get, path: "/api/people/{name}/dependents", id: "listPersonDependents", action: access.KeepPeople,
			summary: "What hangs on somebody, and what a removal makes of it",
			out:     []team.Dependent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Dependents(c.Context(), c.name("name")) },
		},
		{
			method: del, path: "/api/people/{name}", id: "removePerson", action: access.KeepPeople,
			summary: "Remove somebody with their logins, sign-ins and own secrets",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.RemovePerson(c.Context(), c.person, c.name("name")) },
		},
	}
}

// invitationRoutes are the rows of the invitations, and of those who take one.
func invitationRoutes(logins *login.Service) []route {
	return []route{
		{
			method: get, path: "/api/invitations", id: "listInvitations", action: access.KeepPeople,
			summary: "Invitations, newest first",
			out:     []team.Invitation{}, status: 200,
			handle: func(c *call) (any, error) { return logins.Invitations(c.Context()) },
		},
		{
			method: post, path: "/api/invitations", id: "invite", action: access.KeepPeople,
			summary: "Invite somebody by a link",
			in:      apitype.NewInvitation{}, out: apitype.Invited{}, status: 201,
			handle: with(func(c *call, in apitype.NewInvitation) (any, error) {
				v, link, err := logins.Invite(c.Context(), c.person, in)
				return apitype.Invited{Invitation: v, Link: link}, err
			}),
		},
		{
			method: del, path: "/api/invitations/{id}", id: "withdrawInvitation", action: access.KeepPeople,
			summary: "Take an invitation back",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, logins.WithdrawInvitation(c.Context(), c.person, c.name("id")) },
		},
		{
			method: post, path: "/api/join", id: "join", summary: "Take an invitation; sets a session cookie",
			public: true, in: apitype.Joining{}, out: team.Person{}, status: 200,
			handle: with(func(c *call, in apitype.Joining) (any, error) {
				token, p, err := logins.Join(c.Context(), in, c.from())
				if err != nil {
					return nil, err
				}
				c.api.setLogin(c.w, token)
				return p, nil
			}),
		},
	}
}

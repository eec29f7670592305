package signin

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// List returns the sign-ins that a person may see: members their own, and
// what they still have to do, at the top.
func (svc *Service) List(ctx context.Context, by team.Person) ([]team.SignIn, error) {
	servers, err := svc.store.Servers(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := svc.store.Credentials().SignIns(ctx)
	if err != nil {
		return nil, err
	}
	people, err := svc.store.People(ctx)
	if err != nil {
		return nil, err
	}
	agents, err := svc.agents.Agents(ctx, by)
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, p := range people {
		names[p.ID] = p.Name
	}
	visible := map[string]string{}
	owns := false
	for _, a := range agents {
		visible[a.ID] = a.Name
		owns = owns || a.Owner == by.Name
	}
	editor, maker := access.May(by, access.MakeSignIns, ""), access.ScopeOf(by.Role, access.MakeSignIns) != access.None
	seesAll := access.ScopeOf(by.Role, access.SeeSignIns) == access.All
	todo, rest := []team.SignIn{}, []team.SignIn{}
	for _, s := range servers {
		if s.SignIn == nil {
			continue
		}
		mine, teams := false, false
		for _, row := range rows {
			if row.ServerID != s.ID {
				continue
			}
			v := svc.describe(ctx, s, row)
			v.Person, v.Agent = names[row.Holder.Person], visible[row.Holder.Agent]
			switch {
			case row.Holder.Agent != "":
				if v.Agent == "" {
					continue
				}
				v.Mine = maker
			case row.Holder.Person != "":
				v.Mine = row.Holder.Person == by.ID
				mine = mine || v.Mine
				if !v.Mine && !seesAll {
					continue
				}
			default:
				teams, v.Mine = true, editor
			}
			if v.Mine && v.State != "valid" {
				todo = append(todo, v)
			} else {
				rest = append(rest, v)
			}
		}
		need := team.SignIn{Server: s.Name, Grant: s.SignIn.Grant, State: "needed", Mine: true}
		switch {
		case team.OfBouncer(s.SignIn):
			v := svc.describeOwn(s)
			v.Mine = false
			rest = append(rest, v)
		case s.SignIn.Grant == team.GrantAssertion:
		case s.Per == team.PerPerson && !mine && maker && owns:
			need.Person, need.Link = by.Name, svc.connectLink(ctx, s, team.Holder{Person: by.ID})
			todo = append(todo, need)
		case (s.Per == "" || s.Per == team.PerTeam) && !teams && editor:
			need.Link = svc.connectLink(ctx, s, team.Holder{})
			todo = append(todo, need)
		}
	}
	return append(todo, rest...), nil
}

// describe is a grant as people are shown it.
func (svc *Service) describe(ctx context.Context, s team.Server, row store.StoredSignIn) team.SignIn {
	created, refreshed := row.Created, row.Refreshed
	v := team.SignIn{
		ID:      row.ID,
		Server:  s.Name,
		State:   "valid",
		Grant:   s.SignIn.Grant,
		Issuer:  row.Issuer,
		Scope:   row.Scope,
		Note:    row.Note,
		Expires: row.Expires,
		Created: &created, Refreshed: &refreshed, Link: svc.connectLink(ctx, s, row.Holder),
	}
	if state, ok := svc.credentials.State(s.ID, row.Holder); ok {
		v.Renews = state.Renews
		switch {
		case row.Ended != nil:
		case state.Rejected != "":
			v.State, v.Note = "ended", state.Rejected
		case state.Failing != "":
			v.State, v.Note = "failing", state.Failing
		}
	}
	if row.Ended != nil || (!v.Renews && v.Expires != nil && time.Now().After(*v.Expires)) {
		v.State = "ended"
		if v.Note == "" {
			v.Note = "the access token has expired, and it cannot be renewed"
		}
	}
	return v
}

// describeOwn is the access of Bouncer itself to a server.
func (svc *Service) describeOwn(s team.Server) team.SignIn {
	v := team.SignIn{Server: s.Name, State: "needed", Grant: s.SignIn.Grant, Renews: true, Scope: s.SignIn.Scope, Issuer: s.SignIn.Issuer}
	state, ok := svc.credentials.State(s.ID, team.Holder{})
	if !ok {
		return v
	}
	if !state.Gotten.IsZero() {
		gotten := state.Gotten.UTC()
		v.State, v.Issuer, v.Scope, v.Refreshed = "valid", state.Issuer, state.Scope, &gotten
		if !state.Expires.IsZero() {
			v.Expires = &state.Expires
		}
	}
	if state.Failing != "" {
		v.State, v.Note = "failing", state.Failing
	}
	return v
}

// Revoke ends a sign-in, here and at its authorization server.
func (svc *Service) Revoke(ctx context.Context, by team.Person, id string) error {
	rows, err := svc.store.Credentials().SignIns(ctx)
	if err != nil {
		return fmt.Errorf("read the sign-ins: %w", err)
	}
	at := slices.IndexFunc(rows, func(row store.StoredSignIn) bool { return strings.EqualFold(row.ID, id) })
	if at < 0 {
		return &team.NotFoundError{Kind: "sign-in", Name: id}
	}
	row := rows[at]
	mine, err := svc.agents.OwnsHolder(ctx, by, row.Holder)
	if err != nil {
		return err
	}
	if !mine {
		return &team.NotFoundError{Kind: "sign-in", Name: id}
	}
	revoke := svc.credentials.Revoke(row.ServerID, row.Holder)
	change := registry.Change{By: by, What: "sign-in.revoke", Subject: row.ID, Before: row.Issuer, Topics: []string{"sign-ins"}}
	if err := svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.RemoveSignIn(row.ID) }); err != nil {
		return store.Explain(err, "sign-in", id)
	}
	if revoke == nil {
		return nil
	}
	if err := revoke(ctx); err != nil {
		// It is gone here, which is what counts.
		svc.o.Log.Warn("a grant could not be revoked at its authorization server", "issuer", row.Issuer, "error", err)
	}
	return nil
}

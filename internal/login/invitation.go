package login

import (
	"context"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/token"
)

// invitationDays is for how long an invitation can be taken.
const (
	invitationDays = 7
	maxInvitations = 200
)

// Invite makes an invitation and returns its link, which is shown once.
func (svc *Service) Invite(ctx context.Context, by team.Person, n apitype.NewInvitation) (team.Invitation, string, error) {
	if err := people.CheckRole(n.Role); err != nil {
		return team.Invitation{}, "", err
	}
	if n.Note = strings.TrimSpace(n.Note); len(n.Note) > 100 {
		return team.Invitation{}, "", &team.FieldError{Field: "note", Why: "is longer than 100 characters"}
	}
	have, err := svc.Invitations(ctx)
	if err != nil {
		return team.Invitation{}, "", err
	}
	open := 0
	for _, i := range have {
		if i.State == "open" {
			open++
		}
	}
	if open >= maxInvitations {
		return team.Invitation{}, "", &team.ConflictError{Why: "there are too many open invitations", Hint: "take some back first"}
	}
	pass, now := token.New(token.InvitationPrefix), time.Now().UTC()
	sum := token.Hash(pass)
	v := team.Invitation{
		ID:      strings.ToLower(team.NewID()),
		Role:    n.Role,
		Note:    n.Note,
		By:      by.Name,
		Created: now,
		Expires: now.AddDate(0, 0, invitationDays),
		State:   "open",
	}
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "invitation.make", Subject: v.ID, After: string(n.Role) + " " + n.Note, Topics: []string{"people"}},
		func(tx *store.Tx) error { return tx.AddInvitation(v, sum[:]) },
	)
	return v, svc.o.Address + "/invitation/" + pass, err
}

func invitationState(v team.Invitation) string {
	switch {
	case v.Taken != "":
		return "taken"
	case time.Now().After(v.Expires):
		return "expired"
	}
	return "open"
}

// Invitations returns the invitations, newest first.
func (svc *Service) Invitations(ctx context.Context) ([]team.Invitation, error) {
	list, err := svc.store.Invitations(ctx)
	for i := range list {
		list[i].State = invitationState(list[i])
	}
	return list, err
}

// Invitation returns the invitation behind a link.
func (svc *Service) Invitation(ctx context.Context, pass string) (team.Invitation, error) {
	sum := token.Hash(pass)
	v, err := svc.store.InvitationByHash(ctx, sum[:])
	v.State = invitationState(v)
	return v, store.Explain(err, "invitation", "")
}

// WithdrawInvitation takes an invitation back.
func (svc *Service) WithdrawInvitation(ctx context.Context, by team.Person, id string) error {
	return store.Explain(
		svc.registry.Write(
			ctx,
			registry.Change{By: by, What: "invitation.withdraw", Subject: id, Topics: []string{"people"}},
			func(tx *store.Tx) error { return tx.RemoveInvitation(id) },
		),
		"invitation",
		id,
	)
}

// Join takes an invitation: it adds the person and opens a login.
func (svc *Service) Join(ctx context.Context, j apitype.Joining, from string) (string, team.Person, error) {
	end, wait := svc.limiter.Begin(throttle.From("invitation", from))
	if wait > 0 {
		return "", team.Person{}, &team.ThrottledError{For: wait}
	}
	v, err := svc.Invitation(ctx, j.Token)
	if err != nil {
		end(throttle.Failed)
		return "", team.Person{}, err
	}
	end(throttle.Abandoned)
	if v.State != "open" {
		return "", team.Person{}, &team.ConflictError{
			Field: "token",
			Why:   "this invitation is " + v.State,
			Hint:  "ask " + v.By + " for another one",
		}
	}
	j.FullName = strings.TrimSpace(j.FullName)
	if err := team.CheckName("name", j.Name); err != nil {
		return "", team.Person{}, err
	}
	if err := people.CheckFullName(j.FullName); err != nil {
		return "", team.Person{}, err
	}
	if err := CheckPassword(j.Name, j.Password); err != nil {
		return "", team.Person{}, &team.FieldError{Field: "password", Why: err.Error()}
	}
	hash, err := svc.passwords.Hash(ctx, j.Password, from)
	if err != nil {
		return "", team.Person{}, busy(err)
	}
	p := team.Person{ID: team.NewID(), Name: j.Name, FullName: j.FullName, Role: v.Role, Created: time.Now().UTC()}
	err = svc.registry.Write(
		ctx,
		registry.Change{
			By:      p,
			What:    "person.join",
			Subject: p.Name,
			After:   people.Describe(p) + ", invited by " + v.By,
			Topics:  []string{"people"},
		},
		func(tx *store.Tx) error {
			if err := tx.TakeInvitation(v.ID, p.Name); err != nil {
				return err
			}
			return tx.AddPerson(p, hash)
		},
	)
	if err != nil {
		return "", p, store.Explain(err, "person", p.Name)
	}
	token, err := svc.openLogin(ctx, p, "console", "console", from)
	return token, p, err
}

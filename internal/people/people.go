// Package people keeps who belongs to the team and what each may do. How people
// show who they are is the matter of package login.
package people

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Service keeps the people. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
}

// New returns the service.
func New(s *store.Store, r *registry.Registry) *Service { return &Service{store: s, registry: r} }

// People returns everybody.
func (svc *Service) People(ctx context.Context) ([]team.Person, error) { return svc.store.People(ctx) }

// UpdatePerson alters a person. The last admin stays one.
func (svc *Service) UpdatePerson(ctx context.Context, by team.Person, name string, patch apitype.PersonPatch) (team.Person, error) {
	people, err := svc.store.People(ctx)
	if err != nil {
		return team.Person{}, err
	}
	var p team.Person
	admins := 0
	for _, q := range people {
		if q.Name == name {
			p = q
		}
		if q.Role == team.Admin {
			admins++
		}
	}
	if p.ID == "" {
		return p, &team.NotFoundError{Kind: "person", Name: name}
	}
	if patch.Role != nil && p.Elsewhere && *patch.Role != p.Role {
		return p, &team.ConflictError{
			Field: "role",
			Why:   name + "'s role follows from the groups at the identity provider",
			Hint:  "change the groups there, or the setting oidc-groups",
		}
	}
	if patch.Version != nil && *patch.Version != p.Version {
		return p, store.Explain(store.ErrAltered, "person", name)
	}
	before, back := Describe(p), apitype.PersonPatch{FullName: &p.FullName, Role: &p.Role}
	revert := registry.Revert(team.RevertPerson, p.ID, p.Name, p.Version+1, back)
	if patch.FullName != nil {
		p.FullName = strings.TrimSpace(*patch.FullName)
		if err := CheckFullName(p.FullName); err != nil {
			return p, err
		}
	}
	if patch.Role != nil {
		if err := CheckRole(*patch.Role); err != nil {
			return p, err
		}
		if p.Role == team.Admin && *patch.Role != team.Admin && admins == 1 {
			return p, &team.ConflictError{Field: "role", Why: name + " is the last admin", Hint: "make somebody else an admin first"}
		}
		p.Role = *patch.Role
	}
	err = svc.registry.Write(
		ctx,
		registry.Change{
			By: by, What: "person.update", Subject: name, Before: before, After: Describe(p), Topics: []string{"people"}, Revert: revert,
		},
		func(tx *store.Tx) error { return tx.SetPerson(p) },
	)
	p.Version++
	return p, store.Explain(err, "person", name)
}

// Dependents tells what somebody holds, and what becomes of it when they are removed.
func (svc *Service) Dependents(ctx context.Context, name string) ([]team.Dependent, error) {
	p, err := svc.store.PersonByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "person", name)
	}
	return svc.store.DependOnPerson(ctx, p.ID)
}

// RemovePerson removes somebody with their logins, sign-ins and own secrets.
func (svc *Service) RemovePerson(ctx context.Context, by team.Person, name string) error {
	p, err := svc.store.PersonByName(ctx, name)
	if err != nil {
		return store.Explain(err, "person", name)
	}
	if last, err := svc.LastAdmin(ctx, p); err != nil || last {
		return errors.Join(
			err,
			&team.ConflictError{Field: "name", Why: name + " is the last admin", Hint: "make somebody else an admin first"},
		)
	}
	if p.ID == by.ID {
		return &team.ConflictError{Field: "name", Why: "you cannot remove yourself", Hint: "have another admin do it"}
	}
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "person.remove", Subject: name, Before: Describe(p), Topics: []string{"people"}},
		func(tx *store.Tx) error { return tx.RemovePerson(p.ID) },
	)
	if errors.Is(err, store.ErrInUse) {
		return &team.ConflictError{
			Field: "name",
			Why:   name + " still owns agents",
			Hint:  "hand them over or remove them first (bouncer agent list)",
		}
	}
	return store.Explain(err, "person", name)
}

func Describe(p team.Person) string { return fmt.Sprintf("%s, %s", p.FullName, p.Role) }

func (svc *Service) LastAdmin(ctx context.Context, p team.Person) (bool, error) {
	if p.Role != team.Admin {
		return false, nil
	}
	people, err := svc.store.People(ctx)
	n := 0
	for _, q := range people {
		if q.Role == team.Admin {
			n++
		}
	}
	return n <= 1, err
}

func CheckFullName(name string) error {
	if name == "" || len(name) > 100 {
		return &team.FieldError{Field: "fullName", Why: "must have 1 to 100 characters"}
	}
	return nil
}

func CheckRole(r team.Role) error {
	for _, known := range team.Roles {
		if r == known {
			return nil
		}
	}
	return &team.FieldError{Field: "role", Why: fmt.Sprintf("is %q; it must be admin, maintainer, member or auditor", r)}
}

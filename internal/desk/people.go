package desk

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/login"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/token"
)

// How long logins last.
const (
	ConsoleLogin = 12 * time.Hour
	TokenLogin   = 90 * 24 * time.Hour
)

// ErrWrongPassword is returned for an unknown name as well as for a wrong
// password, so that names cannot be tried out.
var ErrWrongPassword = errors.New("the name or the password is wrong")

// FirstAdmin creates the first person, an admin, when there is nobody yet. It
// returns the one-time password, or "" when there was somebody.
func (d *Desk) FirstAdmin(ctx context.Context, name string) (string, error) {
	people, err := d.store.People(ctx)
	if err != nil || len(people) > 0 {
		return "", err
	}
	if err := team.CheckName("first-admin", name); err != nil {
		return "", err
	}
	password := login.OneTimePassword()
	hash, err := d.passwords.Hash(ctx, password)
	if err != nil {
		return "", err
	}
	p := team.Person{ID: team.NewID(), Name: name, FullName: name, Role: team.Admin, MustChange: true, Created: time.Now()}
	err = d.store.Write(ctx, team.Change{Person: name, What: "person.add", Subject: name, After: "first admin"}, func(tx *store.Tx) error {
		return tx.AddPerson(p, hash)
	})
	return password, err
}

// SignIn verifies a password and opens a login of the kind console or token.
// from is the caller's address. Errors are ErrWrongPassword and *WaitError.
func (d *Desk) SignIn(ctx context.Context, name, password, kind, label, from string) (string, team.Person, error) {
	for _, key := range []string{"name " + name, "from " + from} {
		if wait := d.brake.Wait(key); wait > 0 {
			return "", team.Person{}, &team.ThrottledError{For: wait}
		}
	}
	hash, err := d.store.Password(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", team.Person{}, err
	}
	ok, err := d.passwords.Verify(ctx, password, hash)
	if err != nil {
		return "", team.Person{}, err
	}
	if !ok {
		d.brake.Fail("name "+name, throttle.FreeByName)
		d.brake.Fail("from "+from, throttle.FreeByAddress)
		return "", team.Person{}, ErrWrongPassword
	}
	d.brake.Reset("name " + name)
	p, err := d.store.PersonByName(ctx, name)
	if err != nil {
		return "", p, err
	}
	token, err := d.openLogin(ctx, p, kind, label, from)
	return token, p, err
}

// Who returns the person behind a login token of the given kind.
func (d *Desk) Who(ctx context.Context, pass, kind string) (team.Person, error) {
	sum := token.Hash(pass)
	l, err := d.store.LoginByHash(ctx, sum[:], time.Now())
	if err != nil {
		return team.Person{}, store.Explain(err, "login", "")
	}
	if l.Kind != kind {
		return team.Person{}, &team.NotFoundError{Kind: "login"}
	}
	if now := time.Now(); l.Used == nil || now.Sub(*l.Used) > time.Minute {
		if err := d.store.Quietly(ctx, func(tx *store.Tx) error { return tx.LoginUsed(sum[:], now) }); err != nil {
			return team.Person{}, err
		}
	}
	return l.Person, nil
}

// SignOut ends a login.
func (d *Desk) SignOut(ctx context.Context, pass string) error {
	sum := token.Hash(pass)
	return d.store.Quietly(ctx, func(tx *store.Tx) error { return tx.EndLogin(sum[:]) })
}

// ChangePassword sets the person's own password. All other logins end.
func (d *Desk) ChangePassword(ctx context.Context, p team.Person, pass, old, fresh string) error {
	if wait := d.brake.Wait("name " + p.Name); wait > 0 {
		return &team.ThrottledError{For: wait}
	}
	hash, err := d.store.Password(ctx, p.Name)
	if err != nil {
		return err
	}
	ok, err := d.passwords.Verify(ctx, old, hash)
	if err != nil {
		return err
	}
	if !ok {
		d.brake.Fail("name "+p.Name, throttle.FreeByName)
		return &team.FieldError{Field: "old", Why: "is not the present password"}
	}
	if err := login.CheckPassword(p.Name, fresh); err != nil {
		return &team.FieldError{Field: "new", Why: err.Error()}
	}
	if old == fresh {
		return &team.FieldError{Field: "new", Why: "is the present password; choose another one"}
	}
	hash, err = d.passwords.Hash(ctx, fresh)
	if err != nil {
		return err
	}
	sum := token.Hash(pass)
	return d.store.Write(ctx, team.Change{Person: p.Name, What: "person.password", Subject: p.Name}, func(tx *store.Tx) error {
		return tx.SetPassword(p.ID, hash, false, sum[:])
	})
}

// People returns everybody.
func (d *Desk) People(ctx context.Context) ([]team.Person, error) { return d.store.People(ctx) }

// NewPerson is somebody to be added.
type NewPerson struct {
	Name     string    `json:"name"`
	FullName string    `json:"fullName"`
	Role     team.Role `json:"role" enum:"admin,maintainer,member,auditor"`
}

// AddPerson adds somebody and returns the one-time password.
func (d *Desk) AddPerson(ctx context.Context, by team.Person, n NewPerson) (team.Person, string, error) {
	n.FullName = strings.TrimSpace(n.FullName)
	if err := team.CheckName("name", n.Name); err != nil {
		return team.Person{}, "", err
	}
	if err := checkFullName(n.FullName); err != nil {
		return team.Person{}, "", err
	}
	if err := checkRole(n.Role); err != nil {
		return team.Person{}, "", err
	}
	password := login.OneTimePassword()
	hash, err := d.passwords.Hash(ctx, password)
	if err != nil {
		return team.Person{}, "", err
	}
	p := team.Person{ID: team.NewID(), Name: n.Name, FullName: n.FullName, Role: n.Role, MustChange: true, Created: time.Now().UTC()}
	err = d.alter(ctx, by, "person.add", p.Name, "", describePerson(p), "people", func(tx *store.Tx) error {
		return tx.AddPerson(p, hash)
	})
	return p, password, store.Explain(err, "person", p.Name)
}

// PersonPatch is what can be altered of a person; nil fields stay.
type PersonPatch struct {
	FullName *string    `json:"fullName,omitempty"`
	Role     *team.Role `json:"role,omitempty" enum:"admin,maintainer,member,auditor"`
}

// UpdatePerson alters a person. The last admin stays one.
func (d *Desk) UpdatePerson(ctx context.Context, by team.Person, name string, patch PersonPatch) (team.Person, error) {
	people, err := d.store.People(ctx)
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
		return p, &team.ConflictError{Field: "role", Why: name + "'s role follows from the groups at the identity provider", Hint: "change the groups there, or the setting oidc-groups"}
	}
	before := describePerson(p)
	if patch.FullName != nil {
		p.FullName = strings.TrimSpace(*patch.FullName)
		if err := checkFullName(p.FullName); err != nil {
			return p, err
		}
	}
	if patch.Role != nil {
		if err := checkRole(*patch.Role); err != nil {
			return p, err
		}
		if p.Role == team.Admin && *patch.Role != team.Admin && admins == 1 {
			return p, &team.ConflictError{Field: "role", Why: name + " is the last admin", Hint: "make somebody else an admin first"}
		}
		p.Role = *patch.Role
	}
	return p, d.alter(ctx, by, "person.update", name, before, describePerson(p), "people", func(tx *store.Tx) error { return tx.SetPerson(p) })
}

func describePerson(p team.Person) string { return fmt.Sprintf("%s, %s", p.FullName, p.Role) }

func checkFullName(name string) error {
	if name == "" || len(name) > 100 {
		return &team.FieldError{Field: "fullName", Why: "must have 1 to 100 characters"}
	}
	return nil
}

func checkRole(r team.Role) error {
	for _, known := range team.Roles {
		if r == known {
			return nil
		}
	}
	return &team.FieldError{Field: "role", Why: fmt.Sprintf("is %q; it must be admin, maintainer, member or auditor", r)}
}

// Changes returns the newest alterations.
func (d *Desk) Changes(ctx context.Context, limit int) ([]team.Change, error) {
	return d.store.Changes(ctx, limit)
}

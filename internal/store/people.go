package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"bouncer/internal/core/team"
)

const personColumns = `p.id, p.name, p.full_name, p.role, p.must_change, p.subject IS NOT NULL, p.created, p.version`

func scanPerson(s scanner) (p team.Person, err error) {
	var created int64
	err = s.Scan(&p.ID, &p.Name, &p.FullName, &p.Role, &p.MustChange, &p.Elsewhere, &created, &p.Version)
	p.Created = fromMS(created)
	return p, err
}

// People returns everybody, by name.
func (s *Store) People(ctx context.Context) ([]team.Person, error) {
	return list(ctx, s.read, scanPerson, `SELECT `+personColumns+` FROM people p ORDER BY p.name`)
}

// PersonByName returns one person.
func (s *Store) PersonByName(ctx context.Context, name string) (team.Person, error) {
	return first(ctx, s.read, scanPerson, `SELECT `+personColumns+` FROM people p WHERE p.name = ?`, name)
}

// Password returns the stored password hash of a person.
func (s *Store) Password(ctx context.Context, name string) (string, error) {
	return first(ctx, s.read, func(r scanner) (h string, err error) { return h, r.Scan(&h) },
		`SELECT password FROM people WHERE name = ?`, name)
}

// AddPerson stores a new person with a password hash.
func (t PeopleTx) AddPerson(p team.Person, hash string) error {
	return t.exec(`INSERT INTO people (id, name, full_name, role, password, must_change, created) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		p.ID, p.Name, p.FullName, p.Role, hash, p.MustChange, ms(p.Created))
}

// SetPassword replaces a password hash and ends the person's logins, but for
// the one whose hash is given.
func (t PeopleTx) SetPassword(personID, hash string, mustChange bool, keep []byte) error {
	if err := t.one(`UPDATE people SET password = ?, must_change = ? WHERE id = ?`, hash, mustChange, personID); err != nil {
		return err
	}
	return t.exec(`DELETE FROM logins WHERE person = ? AND hash IS NOT ?`, personID, keep)
}

// SetPerson replaces what can be altered of a person as it was read: ErrAltered when
// somebody else was quicker.
func (t PeopleTx) SetPerson(p team.Person) error {
	return t.alter("people", p.ID, `UPDATE people SET full_name = ?, role = ?, version = version + 1 WHERE id = ? AND version = ?`,
		p.FullName, p.Role, p.ID, p.Version)
}

// Login is a console session or a command-line token.
type Login struct {
	Person  team.Person
	ID      string
	Kind    string // console or token
	Label   string
	From    string
	Used    *time.Time
	Created time.Time
	Expires time.Time
}

// LoginByHash returns the login with the hash, if it has not expired.
func (s *Store) LoginByHash(ctx context.Context, hash []byte, now time.Time) (Login, error) {
	return first(ctx, s.read, func(r scanner) (l Login, err error) {
		var made, created, expires int64
		var used sql.NullInt64
		err = r.Scan(
			&l.Person.ID, &l.Person.Name, &l.Person.FullName, &l.Person.Role, &l.Person.MustChange, &l.Person.Elsewhere, &made,
			&l.Person.Version, &l.ID, &l.Kind, &l.Label, &created, &expires, &used,
		)
		l.Person.Created, l.Created, l.Expires = fromMS(made), fromMS(created), fromMS(expires)
		l.Used = fromNull(used)
		return l, err
	}, `SELECT `+personColumns+`, l.id, l.kind, l.label, l.created, l.expires, l.used
		FROM logins l JOIN people p ON p.id = l.person WHERE l.hash = ? AND l.expires > ?`, hash, ms(now))
}

// AddLogin stores a login and drops those that have expired.
func (t PeopleTx) AddLogin(hash []byte, l Login) error {
	if err := t.exec(`DELETE FROM logins WHERE expires <= ?`, ms(l.Created)); err != nil {
		return err
	}
	return t.exec(`INSERT INTO logins (hash, id, person, kind, label, origin, created, expires) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		hash, team.NewID(), l.Person.ID, l.Kind, l.Label, l.From, ms(l.Created), ms(l.Expires))
}

// EndLogin removes a login.
func (t PeopleTx) EndLogin(hash []byte) error {
	return t.exec(`DELETE FROM logins WHERE hash = ?`, hash)
}

// Changes returns the newest alterations, newest first.
func (s *Store) Changes(ctx context.Context, limit int) ([]team.Change, error) {
	return list(ctx, s.read, scanChange, changeColumns+` ORDER BY id DESC LIMIT ?`, limit)
}

// Change returns one alteration.
func (s *Store) Change(ctx context.Context, id string) (team.Change, error) {
	return first(ctx, s.read, scanChange, changeColumns+` WHERE id = ?`, id)
}

const changeColumns = `SELECT id, person, what, subject, before, after, coalesce(revert, '') FROM changes`

func scanChange(r scanner) (c team.Change, err error) {
	var revert string
	if err := r.Scan(&c.ID, &c.Person, &c.What, &c.Subject, &c.Before, &c.After, &revert); err != nil {
		return c, err
	}
	c.At = idTime(c.ID)
	if revert != "" {
		c.Revert = &team.Revert{}
		err = json.Unmarshal([]byte(revert), c.Revert)
	}
	return c, err
}

// SpendRevert notes that a change was undone.
func (t PeopleTx) SpendRevert(id string) error {
	return t.exec(`UPDATE changes SET revert = NULL WHERE id = ?`, id)
}

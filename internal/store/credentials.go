package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
)

// OwnSecret is a secret that one person or agent uses at a server instead of the
// team's: one that is its holder's, or one of the team's that it was given.
type OwnSecret struct {
	ServerID string
	Holder   team.Holder
	SecretID string
}

// Credentials is what is kept of credentials and of what programs may do for people.
type Credentials struct{ *Store }

// Credentials returns the part that holds credentials.
func (s *Store) Credentials() Credentials { return Credentials{s} }

// Given returns the secrets that people and agents use of their own.
func (s Credentials) Given(ctx context.Context) ([]OwnSecret, error) {
	return list(ctx, s.read, func(r scanner) (g OwnSecret, err error) {
		return g, r.Scan(&g.ServerID, &g.Holder.Person, &g.Holder.Agent, &g.SecretID)
	}, `SELECT server, coalesce(person, ''), coalesce(agent, ''), secret FROM given`)
}

// SetGiven puts a secret in use for a holder, instead of the one before. The one
// before goes when it was the holder's own: nobody else could use it.
func (t CredentialTx) SetGiven(g OwnSecret) error {
	person, agent := g.Holder.Args()
	const before = `DELETE FROM secrets WHERE id != ? AND (owner IS NOT NULL OR agent IS NOT NULL)
		AND id IN (SELECT secret FROM given WHERE server = ? AND person IS ? AND agent IS ?)`
	if err := t.exec(before, g.SecretID, g.ServerID, person, agent); err != nil {
		return fmt.Errorf("remove the secret before: %w", err)
	}
	if err := t.exec(`DELETE FROM given WHERE server = ? AND person IS ? AND agent IS ?`, g.ServerID, person, agent); err != nil {
		return fmt.Errorf("end the use of the secret before: %w", err)
	}
	return t.exec(`INSERT INTO given (server, person, agent, secret) VALUES (?, ?, ?, ?)`, g.ServerID, person, agent, g.SecretID)
}

// DropGiven ends the use of a holder's own secret at a server. The secret goes with
// it, unless it is the team's.
func (t CredentialTx) DropGiven(serverID string, h team.Holder) error {
	person, agent := h.Args()
	return t.dropOwn(`server = ? AND person IS ? AND agent IS ?`, serverID, person, agent)
}

// dropOwn ends uses of own secrets, with the secrets that are somebody's own.
func (t *transaction) dropOwn(where string, args ...any) error {
	const secrets = `DELETE FROM secrets WHERE (owner IS NOT NULL OR agent IS NOT NULL) AND id IN (SELECT secret FROM given WHERE `
	if err := t.exec(secrets+where+`)`, args...); err != nil {
		return fmt.Errorf("remove own secrets: %w", err)
	}
	return t.exec(`DELETE FROM given WHERE `+where, args...)
}

// DropHeld ends everything that an agent has of its own: secrets, sign-ins and
// what programs were allowed to do for it. It is for an agent that gets another
// owner.
func (t CredentialTx) DropHeld(agentID string) error {
	if err := t.dropOwn(`agent = ?`, agentID); err != nil {
		return err
	}
	if err := t.exec(`DELETE FROM secrets WHERE agent = ?`, agentID); err != nil {
		return fmt.Errorf("remove an agent's secrets: %w", err)
	}
	return t.exec(`DELETE FROM signins WHERE agent = ?`, agentID)
}

// DropOwn ends what people and agents use of their own at a server, and all its
// sign-ins.
func (t CredentialTx) DropOwn(serverID string) error {
	if err := t.dropOwn(`server = ?`, serverID); err != nil {
		return err
	}
	return t.exec(`DELETE FROM signins WHERE server = ?`, serverID)
}

// StoredSignIn is a sign-in with what is kept of it.
type StoredSignIn struct {
	ID        string
	ServerID  string
	Holder    team.Holder
	Issuer    string
	Scope     string
	Note      string
	Ended     *time.Time
	Expires   *time.Time
	Created   time.Time
	Refreshed time.Time
	Sealed    locker.Box
}

// SignIns returns every grant.
func (s Credentials) SignIns(ctx context.Context) ([]StoredSignIn, error) {
	return list(ctx, s.read, func(r scanner) (v StoredSignIn, err error) {
		var ended, expires sql.NullInt64
		var created, refreshed int64
		err = r.Scan(&v.ID, &v.ServerID, &v.Holder.Person, &v.Holder.Agent, &v.Issuer, &v.Scope, &v.Note,
			&ended, &expires, &created, &refreshed, &v.Sealed.KeyID, &v.Sealed.DataKey, &v.Sealed.Value)
		v.Ended, v.Expires, v.Created, v.Refreshed, v.Sealed.ID = fromNull(ended), fromNull(expires), fromMS(created), fromMS(refreshed), v.ID
		return v, err
	}, `SELECT id, server, coalesce(person, ''), coalesce(agent, ''), issuer, scope, note, ended, expires, created, refreshed, key_id, data_key, sealed FROM signins ORDER BY id`)
}

func null(t *time.Time) any {
	if t == nil {
		return nil
	}
	return ms(*t)
}

// PutSignIn stores a grant in the place of the holder's earlier one.
func (t CredentialTx) PutSignIn(v StoredSignIn) error {
	person, agent := v.Holder.Args()
	if err := t.exec(`DELETE FROM signins WHERE server = ? AND person IS ? AND agent IS ?`, v.ServerID, person, agent); err != nil {
		return err
	}
	return t.exec(
		`INSERT INTO signins (id, server, person, agent, issuer, scope, note, ended, expires, created, refreshed, key_id, data_key, sealed) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		v.ID, v.ServerID, person, agent, v.Issuer, v.Scope, v.Note, null(v.Ended), null(v.Expires), ms(v.Created), ms(v.Refreshed),
		v.Sealed.KeyID, v.Sealed.DataKey, v.Sealed.Value,
	)
}

// RenewSignIn replaces the tokens of a grant.
func (t CredentialTx) RenewSignIn(v StoredSignIn) error {
	return t.one(
		`UPDATE signins SET scope = ?, note = ?, ended = ?, expires = ?, refreshed = ?, key_id = ?, data_key = ?, sealed = ?
			WHERE id = ? AND refreshed < ?`,
		v.Scope, v.Note, null(v.Ended), null(v.Expires), ms(v.Refreshed), v.Sealed.KeyID, v.Sealed.DataKey, v.Sealed.Value, v.ID,
		ms(v.Refreshed),
	)
}

// EndSignIn notes that a grant is of no more use, and why.
func (t CredentialTx) EndSignIn(id, why string, at time.Time) error {
	return t.one(`UPDATE signins SET ended = ?, note = ? WHERE id = ?`, ms(at), why, id)
}

// RemoveSignIn removes a grant.
func (t CredentialTx) RemoveSignIn(id string) error {
	return t.one(`DELETE FROM signins WHERE id = ?`, id)
}

// Client returns who Bouncer is at an issuer, for a redirect address.
func (s Credentials) Client(ctx context.Context, issuer, redirect string) (locker.Box, error) {
	return first(ctx, s.read, func(r scanner) (v locker.Box, err error) {
		return v, r.Scan(&v.ID, &v.KeyID, &v.DataKey, &v.Value)
	}, `SELECT id, key_id, data_key, sealed FROM clients WHERE issuer = ? AND redirect = ?`, issuer, redirect)
}

// PutClient stores who Bouncer is at an issuer.
func (t CredentialTx) PutClient(issuer, redirect string, v locker.Box, at time.Time) error {
	if err := t.DropClient(issuer, redirect); err != nil {
		return err
	}
	return t.exec(`INSERT INTO clients (id, issuer, redirect, created, key_id, data_key, sealed) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		v.ID, issuer, redirect, ms(at), v.KeyID, v.DataKey, v.Value)
}

// DropClient forgets who Bouncer is at an issuer, which no longer knows it.
func (t CredentialTx) DropClient(issuer, redirect string) error {
	return t.exec(`DELETE FROM clients WHERE issuer = ? AND redirect = ?`, issuer, redirect)
}

// App is a program that registered itself.
type App struct {
	ID        string
	Name      string
	Redirects []string
	Created   time.Time
}

// App returns a program by its client id.
func (s Credentials) App(ctx context.Context, id string) (App, error) {
	return first(ctx, s.read, func(r scanner) (v App, err error) {
		var redirects string
		var created int64
		if err = r.Scan(&v.ID, &v.Name, &redirects, &created); err == nil {
			v.Created = fromMS(created)
			err = json.Unmarshal([]byte(redirects), &v.Redirects)
		}
		return v, err
	}, `SELECT id, name, redirects, created FROM apps WHERE id = ?`, id)
}

// maxApps bounds the programs that registered themselves; the oldest that nobody
// ever agreed to make room.
const maxApps = 5_000

// AddApp stores a program.
func (t CredentialTx) AddApp(v App) error {
	if err := t.exec(`DELETE FROM apps WHERE id IN (SELECT a.id FROM apps a WHERE NOT EXISTS (SELECT 1
		FROM consents c WHERE c.app = a.id) ORDER BY a.created DESC LIMIT -1 OFFSET ?)`, maxApps); err != nil {
		return err
	}
	return t.exec(`INSERT INTO apps (id, name, redirects, created) VALUES (?, ?, ?, ?)`, v.ID, v.Name, texts(v.Redirects), ms(v.Created))
}

// StoredConsent is a consent with the ids behind its names.
type StoredConsent struct {
	team.Consent
	AgentID, PersonID string
}

const consentQuery = `SELECT c.id, c.app, c.app_name, c.agent, a.name, c.person, p.name, c.resource, c.created, c.used, c.revoked, c.why
	FROM consents c JOIN agents a ON a.id = c.agent JOIN people p ON p.id = c.person`

func scanConsent(r scanner) (v StoredConsent, err error) {
	var created int64
	var used, revoked sql.NullInt64
	err = r.Scan(&v.ID, &v.App, &v.AppName, &v.AgentID, &v.Agent, &v.PersonID, &v.Person, &v.Resource, &created, &used, &revoked, &v.Why)
	v.Created, v.Used, v.Revoked = fromMS(created), fromNull(used), fromNull(revoked)
	return v, err
}

// Consents returns what people agreed to, newest first.
func (s Credentials) Consents(ctx context.Context) ([]StoredConsent, error) {
	return list(ctx, s.read, scanConsent, consentQuery+` ORDER BY c.id DESC LIMIT 5000`)
}

// Consent returns one consent.
func (s Credentials) Consent(ctx context.Context, id string) (StoredConsent, error) {
	return first(ctx, s.read, scanConsent, consentQuery+` WHERE c.id = ?`, id)
}

// AddConsent stores a consent.
func (t CredentialTx) AddConsent(v StoredConsent) error {
	return t.exec(`INSERT INTO consents (id, app, app_name, agent, person, resource, created) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		v.ID, v.App, v.AppName, v.AgentID, v.PersonID, v.Resource, ms(v.Created))
}

// RevokeConsent ends a consent with its tokens.
func (t CredentialTx) RevokeConsent(id, why string, at time.Time) error {
	if err := t.one(`UPDATE consents SET revoked = ?, why = ? WHERE id = ? AND revoked IS NULL`, ms(at), why, id); err != nil {
		return err
	}
	if err := t.exec(`DELETE FROM refreshes WHERE consent = ?`, id); err != nil {
		return err
	}
	return t.exec(`DELETE FROM passes WHERE consent = ?`, id)
}

// Refresh is a stored refresh token.
type Refresh struct {
	Consent string
	Expires time.Time
	Spent   *time.Time
}

// Refresh returns the refresh token with a hash.
func (s Credentials) Refresh(ctx context.Context, hash []byte) (Refresh, error) {
	return first(ctx, s.read, func(r scanner) (v Refresh, err error) {
		var expires int64
		var spent sql.NullInt64
		err = r.Scan(&v.Consent, &expires, &spent)
		v.Expires, v.Spent = fromMS(expires), fromNull(spent)
		return v, err
	}, `SELECT consent, expires, spent FROM refreshes WHERE hash = ?`, hash)
}

// AddRefresh stores a refresh token.
func (t CredentialTx) AddRefresh(hash []byte, v Refresh, at time.Time) error {
	if err := t.exec(`DELETE FROM refreshes WHERE expires <= ?`, ms(at)); err != nil {
		return err
	}
	return t.exec(`INSERT INTO refreshes (hash, consent, created, expires) VALUES (?, ?, ?, ?)`, hash, v.Consent, ms(at), ms(v.Expires))
}

// SpendRefresh marks a refresh token as used; one that was is ErrNotFound.
func (t CredentialTx) SpendRefresh(hash []byte, at time.Time) error {
	return t.one(`UPDATE refreshes SET spent = ? WHERE hash = ? AND spent IS NULL`, ms(at), hash)
}

// ConsentUsed notes that a consent was used, and drops tokens that expired more
// than a day ago: sessions may outlive a token that is renewed late.
func (t CredentialTx) ConsentUsed(id string, at time.Time) error {
	if err := t.exec(`UPDATE consents SET used = max(coalesce(used, 0), ?) WHERE id = ?`, ms(at), id); err != nil {
		return err
	}
	return t.exec(`DELETE FROM passes WHERE kind = 'token' AND expires <= ?`, ms(at.Add(-24*time.Hour)))
}

// Logins returns the logins of everybody, newest first.
func (s *Store) Logins(ctx context.Context, now time.Time) ([]team.Login, error) {
	return list(ctx, s.read, func(r scanner) (v team.Login, err error) {
		var created, expires int64
		var used sql.NullInt64
		err = r.Scan(&v.ID, &v.Person, &v.Kind, &v.Label, &v.From, &created, &expires, &used)
		v.Created, v.Expires, v.Used = fromMS(created), fromMS(expires), fromNull(used)
		return v, err
	}, `SELECT l.id, p.name, l.kind, l.label, l.origin, l.created, l.expires, l.used
		FROM logins l JOIN people p ON p.id = l.person WHERE l.expires > ? ORDER BY l.created DESC, l.id LIMIT 2000`, ms(now))
}

// EndLoginByID removes a login.
func (t PeopleTx) EndLoginByID(id string) error { return t.one(`DELETE FROM logins WHERE id = ?`, id) }

// LoginUsed notes when a login was last used.
func (t PeopleTx) LoginUsed(hash []byte, at time.Time) error {
	return t.exec(`UPDATE logins SET used = max(coalesce(used, 0), ?) WHERE hash = ?`, ms(at), hash)
}

const invitationQuery = `SELECT id, role, note, by_name, created, expires, taken FROM invitations`

func scanInvitation(r scanner) (v team.Invitation, err error) {
	var created, expires int64
	err = r.Scan(&v.ID, &v.Role, &v.Note, &v.By, &created, &expires, &v.Taken)
	v.Created, v.Expires = fromMS(created), fromMS(expires)
	return v, err
}

// Invitations returns the invitations, newest first.
func (s *Store) Invitations(ctx context.Context) ([]team.Invitation, error) {
	return list(ctx, s.read, scanInvitation, invitationQuery+` ORDER BY id DESC LIMIT 500`)
}

// InvitationByHash returns the invitation behind a link.
func (s *Store) InvitationByHash(ctx context.Context, hash []byte) (team.Invitation, error) {
	return first(ctx, s.read, scanInvitation, invitationQuery+` WHERE hash = ?`, hash)
}

// AddInvitation stores an invitation.
func (t PeopleTx) AddInvitation(v team.Invitation, hash []byte) error {
	return t.exec(
		`INSERT INTO invitations (id, hash, role, note, by_name, created, expires) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		v.ID, hash, v.Role, v.Note, v.By, ms(v.Created), ms(v.Expires),
	)
}

// TakeInvitation marks an invitation as taken; one that was is ErrNotFound.
func (t PeopleTx) TakeInvitation(id, name string) error {
	return t.one(`UPDATE invitations SET taken = ? WHERE id = ? AND taken = ''`, name, id)
}

// RemoveInvitation takes an invitation back.
func (t PeopleTx) RemoveInvitation(id string) error {
	return t.one(`DELETE FROM invitations WHERE id = ?`, id)
}

// PersonBySubject returns who signs in elsewhere under a subject.
func (s *Store) PersonBySubject(ctx context.Context, subject string) (team.Person, error) {
	return first(ctx, s.read, scanPerson, `SELECT `+personColumns+` FROM people p WHERE p.subject = ?`, subject)
}

// SetSubject ties a person to who they are elsewhere.
func (t PeopleTx) SetSubject(personID, subject string) error {
	return t.one(`UPDATE people SET subject = ? WHERE id = ?`, subject, personID)
}

// SetIdentity stores the tokens of a person's sign-in elsewhere.
func (t PeopleTx) SetIdentity(personID string, v locker.Box) error {
	return t.one(`UPDATE people SET key_id = ?, data_key = ?, sealed = ? WHERE id = ?`, v.KeyID, v.DataKey, v.Value, personID)
}

// Identity returns the tokens of a person's sign-in elsewhere.
func (s Credentials) Identity(ctx context.Context, personID string) (locker.Box, error) {
	return first(ctx, s.read, func(r scanner) (v locker.Box, err error) {
		v.ID = personID
		return v, r.Scan(&v.KeyID, &v.DataKey, &v.Value)
	}, `SELECT key_id, data_key, sealed FROM people WHERE id = ? AND sealed IS NOT NULL`, personID)
}

// DependOnPerson tells what somebody holds, and what becomes of it when they are removed.
func (s *Store) DependOnPerson(ctx context.Context, id string) ([]team.Dependent, error) {
	out, err := dependents(ctx, s,
		dependent{"agents", "have to be handed over or removed first", `SELECT name FROM agents WHERE owner = ?`, []any{id}},
		dependent{
			"sign-ins of their own", "are removed",
			`SELECT s.name FROM signins g JOIN servers s ON s.id = g.server WHERE g.person = ?`, []any{id},
		},
		dependent{
			"credentials of their own", "are removed",
			`SELECT s.name FROM given g JOIN servers s ON s.id = g.server WHERE g.person = ?`, []any{id},
		},
		dependent{"open logins", "end at once", `SELECT label FROM logins WHERE person = ?`, []any{id}},
	)
	if len(out) > 0 && out[0].Kind == "agents" {
		out[0].Blocks = true
	}
	return out, err
}

// RemovePerson removes somebody with everything that is theirs alone; agents
// have to be handed over first (ErrInUse).
func (t PeopleTx) RemovePerson(id string) error { return t.one(`DELETE FROM people WHERE id = ?`, id) }

// boxes are all places where something sealed lies: table, key column, and the
// columns of the key id and of the wrapped key.
var boxes = []struct{ name, query, update string }{
	{"secrets", `SELECT id, key_id, data_key FROM secrets`, `UPDATE secrets SET key_id = ?, data_key = ? WHERE id = ?`},
	{
		"prior",
		`SELECT id, prior_key_id, prior_data_key FROM secrets WHERE prior_key_id IS NOT NULL`,
		`UPDATE secrets SET prior_key_id = ?, prior_data_key = ? WHERE id = ?`,
	},
	{"signins", `SELECT id, key_id, data_key FROM signins`, `UPDATE signins SET key_id = ?, data_key = ? WHERE id = ?`},
	{"clients", `SELECT id, key_id, data_key FROM clients`, `UPDATE clients SET key_id = ?, data_key = ? WHERE id = ?`},
	{
		"people",
		`SELECT id, key_id, data_key FROM people WHERE key_id IS NOT NULL`,
		`UPDATE people SET key_id = ?, data_key = ? WHERE id = ?`,
	},
}

// Rewrap runs fn over every wrapped key, and stores what it returns, all or
// nothing. It returns how many there were.
func (t CredentialTx) Rewrap(fn func(id, keyID string, wrapped []byte) (string, []byte, error)) (int, error) {
	n := 0
	for _, b := range boxes {
		type row struct {
			id, key string
			wrapped []byte
		}
		all, err := list(t.ctx, t.tx, func(rows scanner) (r row, err error) {
			return r, rows.Scan(&r.id, &r.key, &r.wrapped)
		}, b.query)
		if err != nil {
			return n, err
		}
		for _, r := range all {
			key, wrapped, err := fn(r.id, r.key, r.wrapped)
			if err != nil {
				return n, err
			}
			if err := t.exec(b.update, key, wrapped, r.id); err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}

// Backup writes a copy of the database as it is now to a new file. What is
// sealed stays sealed. It has a connection of its own, so that nothing waits for it.
func (s *Store) Backup(ctx context.Context, path string) error {
	db, err := open(s.path, "busy_timeout(5000)")
	if err != nil {
		return fmt.Errorf("open the database for a copy: %w", err)
	}
	_, err = db.ExecContext(ctx, `VACUUM INTO ?`, path)
	return errors.Join(err, db.Close())
}

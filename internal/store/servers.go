package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/locker"
)

const serverQuery = `SELECT s.id, s.name, s.url, s.transport, coalesce(k.name, ''), s.paused, s.created, s.command, s.args, s.dir, s.env, s.secret_env, s.options, s.document,
	coalesce(c.name, ''), s.version, s.issuer
	FROM servers s LEFT JOIN secrets k ON k.id = s.secret LEFT JOIN secrets c ON c.id = s.client_key`

func scanServer(r scanner) (v team.Server, err error) {
	var created int64
	var args, env, options, key string
	err = r.Scan(
		&v.ID, &v.Name, &v.URL, &v.Transport, &v.Secret, &v.Paused, &created, &v.Command, &args, &v.Dir, &env, &v.SecretEnv,
		&options, &v.Document, &key, &v.Version, &v.Issuer,
	)
	v.Created = fromMS(created)
	if err == nil {
		err = errors.Join(
			json.Unmarshal([]byte(args), &v.Args),
			json.Unmarshal([]byte(env), &v.Env),
			json.Unmarshal([]byte(options), &v.ServerOptions),
		)
	}
	if v.ClientKey = key; v.Sharing == "" {
		v.Sharing = "auto"
	}
	return v, err
}

// texts writes a list of texts as JSON.
func texts(list []string) string {
	if len(list) == 0 {
		return "[]"
	}
	// Texts cannot fail to be written.
	raw, _ := json.Marshal(list)
	return string(raw)
}

// options writes a server's options. The key is kept as a reference instead.
func options(v team.Server) string {
	o := v.ServerOptions
	o.ClientKey = ""
	// Texts and numbers cannot fail to be written.
	raw, _ := json.Marshal(o)
	return string(raw)
}

// Servers returns every registered server, by name.
func (s *Store) Servers(ctx context.Context) ([]team.Server, error) {
	return list(ctx, s.read, scanServer, serverQuery+` ORDER BY s.name`)
}

// ServerByName returns one server.
func (s *Store) ServerByName(ctx context.Context, name string) (team.Server, error) {
	return first(ctx, s.read, scanServer, serverQuery+` WHERE s.name = ?`, name)
}

// AddServer stores a server; its secret is named by v.Secret.
func (t ServerTx) AddServer(v team.Server) error {
	return t.exec(
		`INSERT INTO servers (id, name, url, transport, secret, paused, created,
			command, args, dir, env, secret_env, options, document, client_key,
		issuer)
		VALUES (?, ?, ?, ?, (SELECT id FROM secrets WHERE name = ? AND owner IS NULL AND agent IS NULL), ?, ?, ?, ?, ?, ?, ?, ?, ?,
			(SELECT id FROM secrets WHERE name = ? AND owner IS NULL AND agent IS NULL), ?)`,
		v.ID, v.Name, v.URL, v.Transport, v.Secret, v.Paused, ms(v.Created), v.Command, texts(v.Args), v.Dir, texts(v.Env),
		v.SecretEnv, options(v), v.Document, v.ClientKey, v.Issuer,
	)
}

// SetServer replaces what can be altered of a server as it was read: ErrAltered when
// somebody else was quicker.
func (t ServerTx) SetServer(v team.Server) error {
	return t.alter(
		"servers",
		v.ID,
		`UPDATE servers SET url = ?, transport = ?, command = ?, args = ?, dir = ?, env = ?, secret_env = ?, paused = ?, secret = (SELECT id
		FROM secrets WHERE name = ? AND owner IS NULL AND agent IS NULL), options = ?, document = ?,
		client_key = (SELECT id FROM secrets WHERE name = ? AND owner IS NULL AND agent IS NULL), issuer = ?, version = version + 1
		WHERE id = ? AND version = ?`,
		v.URL, v.Transport, v.Command, texts(v.Args), v.Dir, texts(v.Env), v.SecretEnv, v.Paused, v.Secret, options(v), v.Document,
		v.ClientKey, v.Issuer, v.ID, v.Version,
	)
}

// RemoveServer removes a server with its editions, with what people and agents have of
// their own there, and with the rules for it alone: another server that is given the
// name begins without any of that.
func (t ServerTx) RemoveServer(id string) error {
	if err := t.dropOwn(`server = ?`, id); err != nil {
		return err
	}
	if err := t.exec(`DELETE FROM rules WHERE server = (SELECT name FROM servers WHERE id = ?)`, id); err != nil {
		return err
	}
	return t.one(`DELETE FROM servers WHERE id = ?`, id)
}

// DependOnServer tells what hangs on a server, and what becomes of it when the server is
// removed.
func (s *Store) DependOnServer(ctx context.Context, id string) ([]team.Dependent, error) {
	return dependents(ctx, s,
		dependent{
			"rules for it alone", "are removed",
			`SELECT r.name FROM rules r JOIN servers s ON s.name = r.server WHERE s.id = ?`, []any{id},
		},
		dependent{
			"credentials of people and agents of their own", "are removed; a server registered under the name later begins without them",
			`SELECT coalesce(p.name, a.name) FROM given g LEFT JOIN people p ON p.id = g.person
				LEFT JOIN agents a ON a.id = g.agent WHERE g.server = ?`, []any{id},
		},
		dependent{
			"sign-ins", "are removed",
			`SELECT coalesce(p.name, a.name, 'the team') FROM signins g LEFT JOIN people p ON p.id = g.person
				LEFT JOIN agents a ON a.id = g.agent WHERE g.server = ?`, []any{id},
		},
		dependent{
			"secrets that it is given", "stay stored",
			`SELECT k.name FROM secrets k JOIN servers s ON s.secret = k.id OR s.client_key = k.id
				OR instr(s.options, '"' || k.name || '"') > 0 WHERE s.id = ? AND k.owner IS NULL AND k.agent IS NULL`, []any{id},
		},
	)
}

// Edition returns the newest recorded tool list of a server; none at all is an
// empty list.
func (s *Store) Edition(ctx context.Context, serverID string) ([]tools.Tool, error) {
	raw, err := first(ctx, s.read, func(r scanner) (b []byte, err error) { return b, r.Scan(&b) },
		`SELECT tools FROM editions WHERE server = ? ORDER BY id DESC LIMIT 1`, serverID)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []tools.Tool
	if err := json.Unmarshal(raw, &out); err != nil {
		return nil, fmt.Errorf("read the tool list of server %s: %w", serverID, err)
	}
	return out, nil
}

// shownEditions is how many states of a tool list are compared at a time.
const shownEditions = 50

// Editions returns the newest recorded tool lists of a server, newest first.
func (s *Store) Editions(ctx context.Context, serverID string) ([]team.Edition, error) {
	type row struct {
		team.Edition
		tools []tools.Tool
	}
	rows, err := list(ctx, s.read, func(r scanner) (v row, err error) {
		var at int64
		var raw []byte
		if err = r.Scan(&v.ID, &at, &v.Digest, &raw); err == nil {
			v.At = fromMS(at)
			err = json.Unmarshal(raw, &v.tools)
		}
		return v, err
	}, `SELECT id, at, digest, tools FROM editions WHERE server = ? ORDER BY id DESC LIMIT ?`, serverID, shownEditions+1)
	if err != nil {
		return nil, err
	}
	out := []team.Edition{}
	for i, r := range rows {
		if i == shownEditions {
			break
		}
		var before []tools.Tool
		if i+1 < len(rows) {
			before = rows[i+1].tools
		}
		r.Tools = len(r.tools)
		r.Added, r.Removed, r.Changed = tools.Compare(before, r.tools)
		out = append(out, r.Edition)
	}
	return out, nil
}

// maxEditions is how many states of one server's tool list are kept.
const maxEditions = 200

// AddEdition records a tool list when it differs from the newest one.
func (t ServerTx) AddEdition(serverID string, at time.Time, list []tools.Tool) error {
	digest := tools.Digest(list)
	var newest string
	err := t.tx.QueryRowContext(t.ctx, `SELECT digest FROM editions WHERE server = ? ORDER BY id DESC LIMIT 1`, serverID).Scan(&newest)
	if err == nil && newest == digest {
		return nil
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	raw, err := json.Marshal(list)
	if err != nil {
		return err
	}
	if err := t.exec(`INSERT INTO editions (id, server, at, digest, tools)
		VALUES (?, ?, ?, ?, ?)`, team.NewID(), serverID, ms(at), digest, raw); err != nil {
		return err
	}
	return t.exec(
		`DELETE FROM editions WHERE server = ?1 AND id NOT IN (SELECT id FROM editions WHERE server = ?1 ORDER BY id DESC LIMIT ?2)`,
		serverID,
		maxEditions,
	)
}

// secretName is how people call a secret: the team's by its name; what somebody has
// of their own by the server and by whose it is, with colons, which no chosen name has.
const secretName = `CASE WHEN k.owner IS NULL AND k.agent IS NULL THEN k.name ELSE
	(SELECT s.name FROM given g JOIN servers s ON s.id = g.server WHERE g.secret = k.id)
	|| ':' || coalesce(p.name, 'agent:' || a.name) END`

// Secrets returns every secret without its value, by name. Who uses it besides
// servers as a whole is not told here.
func (s *Store) Secrets(ctx context.Context) ([]team.Secret, error) {
	return list(ctx, s.read, func(r scanner) (v team.Secret, err error) {
		var created int64
		var rotated, ends, usedAt, overlap sql.NullInt64
		var used, facts string
		err = r.Scan(&v.ID, &v.Name, &v.Kind, &v.Owner, &v.Agent, &v.Source, &facts, &created, &rotated, &ends, &usedAt, &overlap, &used)
		v.Created, v.Rotated, v.Ends, v.Used, v.Overlap = fromMS(created), fromNull(rotated), fromNull(ends), fromNull(usedAt), fromNull(overlap)
		if err == nil {
			err = errors.Join(json.Unmarshal([]byte(used), &v.UsedBy), json.Unmarshal([]byte(facts), &v.Facts))
		}
		return v, err
	}, `SELECT k.id, `+secretName+`, k.kind, coalesce(p.name, ''), coalesce(a.name, ''), k.source, k.facts, k.created, k.rotated, k.ends, k.used,
		k.prior_until,
		(SELECT coalesce(json_group_array(s.name), '[]') FROM servers s WHERE s.secret = k.id OR s.client_key = k.id
			OR EXISTS (SELECT 1 FROM given g WHERE g.server = s.id AND g.secret = k.id))
		FROM secrets k LEFT JOIN people p ON p.id = k.owner LEFT JOIN agents a ON a.id = k.agent ORDER BY 2`)
}

// SealedSecret is a secret as it is put in force.
type SealedSecret struct {
	locker.Box
	Name         string // as people call it
	Own          bool   // it is one person's or one agent's: no server names it
	Kind, Source string
	Prior        *locker.Box // the value before, while it is still tried
	PriorUntil   time.Time
}

// SealedSecrets returns the encrypted values of all secrets.
func (s *Store) SealedSecrets(ctx context.Context) ([]SealedSecret, error) {
	return list(ctx, s.read, func(r scanner) (v SealedSecret, err error) {
		var prior locker.Box
		var key sql.NullString
		var until sql.NullInt64
		err = r.Scan(&v.Name, &v.Own, &v.ID, &v.KeyID, &v.DataKey, &v.Value, &v.Kind, &v.Source, &key, &prior.DataKey, &prior.Value, &until)
		if key.Valid && until.Valid {
			prior.ID, prior.KeyID = v.ID, key.String
			v.Prior, v.PriorUntil = &prior, fromMS(until.Int64)
		}
		return v, err
	}, `SELECT coalesce(`+secretName+`, ''), k.owner IS NOT NULL OR k.agent IS NOT NULL, k.id, k.key_id, k.data_key, k.sealed, k.kind, k.source,
		k.prior_key_id, k.prior_data_key, k.prior_sealed, k.prior_until
		FROM secrets k LEFT JOIN people p ON p.id = k.owner LEFT JOIN agents a ON a.id = k.agent`)
}

func facts(v team.Secret) string {
	// Texts and lists of them cannot fail to be written.
	raw, _ := json.Marshal(v.Facts)
	return string(raw)
}

// AddSecret stores a secret of the team's with its sealed value, under its name.
func (t ServerTx) AddSecret(v team.Secret, sealed locker.Box) error {
	return t.addSecret(v, sealed, v.Name, team.Holder{})
}

// AddOwnSecret stores what a person or an agent has of its own at a server, in the
// place of what it had there before.
func (t CredentialTx) AddOwnSecret(v team.Secret, sealed locker.Box, serverID string, h team.Holder) error {
	if err := t.addSecret(v, sealed, ownPrefix+v.ID, h); err != nil {
		return err
	}
	return t.SetGiven(OwnSecret{ServerID: serverID, Holder: h, SecretID: v.ID})
}

// ownPrefix begins the stored names of secrets that are not the team's. It holds a
// colon, so that no name that somebody chooses is such a one.
const ownPrefix = "own:"

func (t *transaction) addSecret(v team.Secret, sealed locker.Box, name string, h team.Holder) error {
	person, agent := h.Args()
	return t.exec(
		`INSERT INTO secrets (id, name, kind, key_id, data_key, sealed, created, facts, source, ends, owner, agent)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		v.ID, name, v.Kind, sealed.KeyID, sealed.DataKey, sealed.Value, ms(v.Created), facts(v), v.Source, null(v.Ends), person,
		agent,
	)
}

// RotateSecret replaces the sealed value. The one before is kept until
// v.Overlap, or dropped when that is nil.
func (t ServerTx) RotateSecret(v team.Secret, sealed locker.Box) error {
	if v.Overlap != nil {
		if err := t.one(`UPDATE secrets SET prior_key_id = key_id, prior_data_key = data_key,
			prior_sealed = sealed, prior_until = ? WHERE id = ?`, ms(*v.Overlap), v.ID); err != nil {
			return err
		}
	} else if err := t.DropPrior(v.ID); err != nil {
		return err
	}
	return t.one(`UPDATE secrets SET key_id = ?, data_key = ?, sealed = ?, rotated = ?, facts = ?, source = ?, ends = ? WHERE id = ?`,
		sealed.KeyID, sealed.DataKey, sealed.Value, null(v.Rotated), facts(v), v.Source, null(v.Ends), v.ID)
}

// DropPrior forgets the value before.
func (t ServerTx) DropPrior(id string) error {
	return t.exec(`UPDATE secrets SET prior_key_id = NULL, prior_data_key = NULL, prior_sealed = NULL, prior_until = NULL WHERE id = ?`, id)
}

// SecretUsed notes when a secret was last sent.
func (t ServerTx) SecretUsed(id string, at time.Time) error {
	return t.exec(`UPDATE secrets SET used = max(coalesce(used, 0), ?) WHERE id = ?`, ms(at), id)
}

// PinIssuer notes the authorization server that was found for a server, where none
// is noted yet.
func (t ServerTx) PinIssuer(serverID, issuer string) error {
	return t.exec(`UPDATE servers SET issuer = ? WHERE id = ? AND issuer = ''`, issuer, serverID)
}

// RemoveSecret removes a secret; one that a server is given is ErrInUse.
func (t ServerTx) RemoveSecret(id string) error { return t.one(`DELETE FROM secrets WHERE id = ?`, id) }

package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/store"
)

// maxOverlap is the longest time that a rotated value is still tried.
const maxOverlap = 7 * 24 * time.Hour

// Secrets returns the secrets that a person may see, without values: members
// their own.
func (d *Desk) Secrets(ctx context.Context, by team.Person) ([]team.Secret, error) {
	d.flushUse(ctx)
	list, err := d.secrets(ctx)
	if err != nil || by.Role != team.Member {
		return list, err
	}
	return slices.DeleteFunc(list, func(s team.Secret) bool { return s.Owner != by.Name }), nil
}

func (d *Desk) secrets(ctx context.Context) ([]team.Secret, error) {
	list, err := d.store.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	servers, err := d.store.Servers(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	for i := range list {
		s := &list[i]
		for _, v := range servers {
			if slices.Contains(named(v), s.Name) && !slices.Contains(s.UsedBy, v.Name) {
				s.UsedBy = append(s.UsedBy, v.Name)
			}
		}
		if s.Overlap != nil && now.After(*s.Overlap) {
			s.Overlap = nil
		}
		s.Warning = s.WarningAt(now)
	}
	return list, nil
}

// named are the secrets that a server's settings name, but for those that the
// store keeps as references.
func named(s team.Server) []string {
	var out []string
	for _, p := range s.Places {
		out = append(out, p.Secret)
	}
	if s.SignIn != nil {
		out = append(out, s.SignIn.ClientSecret, s.SignIn.SigningKey, s.SignIn.Assertion)
	}
	return slices.DeleteFunc(out, func(n string) bool { return n == "" })
}

func (d *Desk) secret(ctx context.Context, name string) (team.Secret, error) {
	list, err := d.secrets(ctx)
	if err != nil {
		return team.Secret{}, err
	}
	for _, s := range list {
		if s.Name == name {
			return s, nil
		}
	}
	return team.Secret{}, &team.NotFoundError{Kind: "secret", Name: name}
}

// open returns the value of a secret, read where it is kept.
func (d *Desk) open(ctx context.Context, name string) (locker.Secret, error) {
	r, err := d.register(ctx)
	if err != nil {
		return locker.Secret{}, err
	}
	v := r.values[name]
	if v == nil {
		return locker.Secret{}, &team.NotFoundError{Kind: "secret", Name: name}
	}
	return v.now(ctx)
}

func (d *Desk) seal(id string, v locker.Secret) (store.Sealed, error) {
	box, err := d.keys.Seal(id, v)
	return store.Sealed{SecretID: id, KeyID: box.KeyID, DataKey: box.DataKey, Value: box.Value}, err
}

// NewSecret is a secret to be stored. Either a value or a source is given.
type NewSecret struct {
	Name   string     `json:"name"`
	Kind   string     `json:"kind,omitempty" enum:"bearer,value,basic,environment,client-secret,private-key" doc:"bearer if left out"`
	Value  string     `json:"value,omitempty"`
	Source string     `json:"source,omitempty" doc:"where the value is read when it is used: env NAME, file PATH or command LINE; admins only"`
	Ends   *time.Time `json:"ends,omitempty" doc:"when it ends, where the value does not say"`
	Server string     `json:"server,omitempty" doc:"server that it is tried on before it is stored"`
}

// NewValue is a new value of a secret.
type NewValue struct {
	Value   string     `json:"value,omitempty"`
	Source  string     `json:"source,omitempty" doc:"instead of the value"`
	Ends    *time.Time `json:"ends,omitempty"`
	Anyway  bool       `json:"anyway,omitempty" doc:"store it even when a server does not take it"`
	Overlap int        `json:"overlapHours,omitempty" doc:"for how long the value before is tried when a server refuses the new one, 0 to 168 hours"`
}

// Inspection is what can be told of a value before it is stored.
type Inspection struct {
	Problem string     `json:"problem,omitempty" doc:"why it cannot be used"`
	Facts   team.Facts `json:"facts"`
	Ends    *time.Time `json:"ends,omitempty"`
	Warning string     `json:"warning,omitempty"`
}

// Inspect looks at a value without storing or returning it.
func (d *Desk) Inspect(kind, raw string) Inspection {
	if kind == "" {
		kind = team.KindBearer
	}
	v, notes, err := locker.Read(kind, raw)
	if err != nil {
		return Inspection{Problem: "the value " + err.Error()}
	}
	facts, ends := locker.Look(v)
	facts.Notes = notes
	out := Inspection{Facts: facts}
	if !ends.IsZero() {
		out.Ends = &ends
		out.Warning = team.Secret{Ends: &ends}.WarningAt(time.Now())
	}
	return out
}

// readSecretInput reads a value or checks a source, and fills in what can be told.
func (d *Desk) readSecretInput(ctx context.Context, by team.Person, s *team.Secret, raw, source string, ends *time.Time) (locker.Secret, error) {
	s.Facts, s.Ends, s.Source = team.Facts{}, ends, strings.TrimSpace(source)
	if s.Source != "" {
		switch {
		case raw != "":
			return locker.Secret{}, &team.FieldError{Field: "source", Why: "and value exclude each other; give one of them"}
		case by.Role != team.Admin:
			return locker.Secret{}, &team.FieldError{Field: "source", Why: "can be given by an admin only, since it reads where the service runs"}
		case strings.HasPrefix(s.Source, "command ") && d.o.NoProcesses:
			return locker.Secret{}, &team.FieldError{Field: "source", Why: "cannot be a command: the service was started with processes off"}
		}
		if err := locker.CheckSource(s.Source); err != nil {
			return locker.Secret{}, &team.FieldError{Field: "source", Why: err.Error()}
		}
		got, err := locker.Outside(ctx, s.Source)
		if err != nil {
			return got, &team.FieldError{Field: "source", Why: "cannot be read: " + err.Error()}
		}
		raw = got.Reveal()
	}
	v, notes, err := locker.Read(s.Kind, raw)
	if err != nil {
		return v, &team.FieldError{Field: "value", Why: err.Error()}
	}
	facts, told := locker.Look(v)
	facts.Notes = notes
	s.Facts = facts
	if s.Ends == nil && !told.IsZero() {
		s.Ends = &told
	}
	d.learn(v)
	if s.Source != "" {
		return locker.NewSecret(s.Source), nil // the value itself is not kept
	}
	return v, nil
}

// AddSecret stores a secret under a name.
func (d *Desk) AddSecret(ctx context.Context, by team.Person, n NewSecret) (team.Secret, error) {
	if err := team.CheckName("name", n.Name); err != nil {
		return team.Secret{}, err
	}
	if n.Kind == "" {
		n.Kind = team.KindBearer
	}
	if !slices.Contains(team.SecretKinds, n.Kind) {
		return team.Secret{}, &team.FieldError{Field: "kind", Why: "must be one of " + strings.Join(team.SecretKinds, ", ")}
	}
	s := team.Secret{ID: team.NewID(), Name: n.Name, Kind: n.Kind, UsedBy: []string{}, Created: time.Now().UTC()}
	v, err := d.readSecretInput(ctx, by, &s, n.Value, n.Source, n.Ends)
	if err != nil {
		return s, err
	}
	if n.Server != "" {
		srv, err := d.store.ServerByName(ctx, n.Server)
		if err != nil {
			return s, store.Explain(err, "server", n.Server)
		}
		if err := d.tryValue(ctx, srv, team.Holder{}, &value{d: d, id: s.ID, name: s.Name, kind: s.Kind, source: s.Source, present: v, used: new(atomicInt)}); err != nil {
			return s, err
		}
	}
	box, err := d.seal(s.ID, v)
	if err != nil {
		return s, err
	}
	err = d.alter(ctx, by, "secret.add", n.Name, "", s.Kind, "secrets", func(tx *store.Tx) error { return tx.AddSecret(s, box) })
	s.Warning = s.WarningAt(time.Now())
	return s, store.Explain(err, "secret", n.Name)
}

// tryValue tries a server with one value in the place of its first secret.
func (d *Desk) tryValue(ctx context.Context, s team.Server, h team.Holder, v *value) error {
	r, err := d.register(ctx)
	if err != nil {
		return err
	}
	r.values[v.name] = v
	r.given[s.ID+"/"+h.Key()] = v.name
	c, err := d.credentialFor(s, h, r)
	if err != nil {
		return err
	}
	return d.try(ctx, s, c)
}

// RotateSecret replaces a value. It is tried on the servers that are given the
// secret first, unless that is not wanted; the value before stays usable for as
// long as is asked.
func (d *Desk) RotateSecret(ctx context.Context, by team.Person, name string, n NewValue) (team.Secret, error) {
	s, err := d.secret(ctx, name)
	if err != nil {
		return s, err
	}
	if by.Role == team.Member && s.Owner != by.Name {
		return s, &team.NotFoundError{Kind: "secret", Name: name}
	}
	if n.Overlap < 0 || time.Duration(n.Overlap)*time.Hour > maxOverlap {
		return s, &team.FieldError{Field: "overlapHours", Why: "must be 0 to 168"}
	}
	v, err := d.readSecretInput(ctx, by, &s, n.Value, n.Source, n.Ends)
	if err != nil {
		return s, err
	}
	now := time.Now().UTC()
	s.Rotated, s.Overlap = &now, nil
	if n.Overlap > 0 && s.Source == "" {
		until := now.Add(time.Duration(n.Overlap) * time.Hour)
		s.Overlap = &until
	}
	if !n.Anyway {
		if err := d.tryRotation(ctx, s, v); err != nil {
			return s, err
		}
	}
	box, err := d.seal(s.ID, v)
	if err != nil {
		return s, err
	}
	err = d.alter(ctx, by, "secret.rotate", name, "", "", "secrets", func(tx *store.Tx) error { return tx.RotateSecret(s, box) })
	s.Warning = s.WarningAt(now)
	return s, store.Explain(err, "secret", name)
}

// tryRotation tries a new value wherever the secret is used.
func (d *Desk) tryRotation(ctx context.Context, s team.Secret, v locker.Secret) error {
	r, err := d.register(ctx)
	if err != nil {
		return err
	}
	people, err := d.store.People(ctx)
	if err != nil {
		return err
	}
	r.values[s.Name] = &value{d: d, id: s.ID, name: s.Name, kind: s.Kind, source: s.Source, present: v, used: new(atomicInt)}
	if s.Source != "" {
		r.values[s.Name].present = locker.Secret{}
	}
	for _, name := range s.UsedBy {
		srv, err := d.store.ServerByName(ctx, name)
		if err != nil {
			return store.Explain(err, "server", name)
		}
		for _, h := range d.holdersOf(srv, r, people) {
			if own := r.given[srv.ID+"/"+h.Key()]; own != s.Name && (own != "" || (srv.Secret != s.Name && srv.ClientKey != s.Name && !slices.Contains(named(srv), s.Name))) {
				continue
			}
			c, err := d.freshCredential(srv, h, r)
			if err != nil {
				return err
			}
			if err := checkPair(srv, c); err != nil {
				return err
			}
			if err := d.try(ctx, srv, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// freshCredential is credentialFor without what is in force: a grant of its own,
// so that a trial neither uses nor spoils the present tokens.
func (d *Desk) freshCredential(s team.Server, h team.Holder, r *register) (credential, error) {
	c, err := d.credentialFor(s, h, r)
	if err == nil && c.live != nil && c.live.grant != nil && team.OfBouncer(s.SignIn) {
		g := c.live.grant
		g.mu.Lock()
		fresh := &grant{d: d, id: g.id, server: s, holder: h, config: g.config, proof: r.values[s.SignIn.Assertion], link: g.link, used: new(atomicInt)}
		g.mu.Unlock()
		// The settings' own client, with the value on trial.
		for name, into := range map[string]*locker.Secret{s.SignIn.ClientSecret: &fresh.config.Secret, s.SignIn.SigningKey: &fresh.config.Key} {
			if v := r.values[name]; v != nil {
				if *into, err = v.now(d.ctx); err != nil {
					return c, err
				}
			}
		}
		c.live = &values{items: c.live.items, grant: fresh}
	}
	return c, err
}

// RemoveSecret removes a secret that no server is given.
func (d *Desk) RemoveSecret(ctx context.Context, by team.Person, name string) error {
	s, err := d.secret(ctx, name)
	if err != nil {
		return err
	}
	own := s.Owner == by.Name && s.Owner != ""
	if by.Role == team.Member && !own {
		return &team.NotFoundError{Kind: "secret", Name: name}
	}
	if len(s.UsedBy) > 0 && !own {
		err = store.ErrInUse
	} else {
		err = d.alter(ctx, by, "secret.remove", name, s.Kind, "", "secrets", func(tx *store.Tx) error { return tx.RemoveSecret(s.ID) })
	}
	if errors.Is(err, store.ErrInUse) {
		return &team.ConflictError{Field: "name", Why: fmt.Sprintf("secret %q is given to %v", name, s.UsedBy), Hint: "remove those servers, or give them another secret first"}
	}
	return store.Explain(err, "secret", name)
}

// OwnValue is a credential that a person or an agent uses of their own.
type OwnValue struct {
	Agent  string `json:"agent,omitempty" doc:"agent that it is for; yourself if left out"`
	Value  string `json:"value,omitempty"`
	Secret string `json:"secret,omitempty" doc:"name of a stored secret instead; admins and maintainers only"`
	Anyway bool   `json:"anyway,omitempty" doc:"store it even when the server does not take it"`
}

// GiveOwn stores what a person or an agent uses at a server instead of the
// team's. It is tried first.
func (d *Desk) GiveOwn(ctx context.Context, by team.Person, server string, n OwnValue) (team.Secret, error) {
	s, err := d.store.ServerByName(ctx, server)
	if err != nil {
		return team.Secret{}, store.Explain(err, "server", server)
	}
	if s.SignIn != nil {
		return team.Secret{}, &team.ConflictError{Field: "value", Why: fmt.Sprintf("server %q wants a sign-in, not a token", server), Hint: "use bouncer sign-in begin " + server}
	}
	if s.Transport == team.Stdio && s.SecretEnv == "" {
		return team.Secret{}, &team.FieldError{Field: "value", Why: "has nowhere to go: no variable of this process carries a secret"}
	}
	h, err := d.holderOf(ctx, by, s, n.Agent, false)
	if err != nil {
		return team.Secret{}, err
	}
	if n.Secret != "" {
		if by.Role == team.Member {
			return team.Secret{}, &team.FieldError{Field: "secret", Why: "can be chosen by admins and maintainers only; give a value"}
		}
		have, err := d.teamSecret(ctx, n.Secret)
		if err != nil {
			return have, err
		}
		return have, d.alter(ctx, by, "secret.give", n.Secret, "", server, "secrets", func(tx *store.Tx) error {
			return tx.SetGiven(store.Given{ServerID: s.ID, Holder: h, Secret: n.Secret})
		})
	}
	kind := team.KindBearer
	switch {
	case s.Transport == team.Stdio:
		kind = team.KindEnvironment
	case s.SecretHeader != "" || s.SecretQuery != "":
		kind = team.KindValue
	}
	name := server + "-" + by.Name
	if n.Agent != "" {
		name = server + "-" + n.Agent
	}
	if len(name) > 32 {
		name = strings.TrimRight(name[:25], "-") + "-" + strings.ToLower(team.NewID()[20:])
	}
	k := team.Secret{ID: team.NewID(), Name: name, Kind: kind, UsedBy: []string{server}, Created: time.Now().UTC()}
	if n.Agent == "" {
		k.Owner = by.Name
	}
	v, err := d.readSecretInput(ctx, by, &k, n.Value, "", nil)
	if err != nil {
		return k, err
	}
	if !n.Anyway {
		if err := d.tryValue(ctx, s, h, &value{d: d, id: k.ID, name: k.Name, kind: k.Kind, present: v, used: new(atomicInt)}); err != nil {
			return k, err
		}
	}
	have, err := d.secret(ctx, name)
	again := err == nil
	if again {
		now := time.Now().UTC()
		k.ID, k.Created, k.Rotated = have.ID, have.Created, &now
		if have.Owner != k.Owner {
			return k, &team.ConflictError{Field: "value", Why: fmt.Sprintf("there is a secret %q of somebody else already", name), Hint: "ask an admin or a maintainer to give it another name"}
		}
	}
	box, err := d.seal(k.ID, v)
	if err != nil {
		return k, err
	}
	err = d.alter(ctx, by, "secret.own", name, "", server, "secrets", func(tx *store.Tx) error {
		if again {
			if err := tx.RotateSecret(k, box); err != nil {
				return err
			}
		} else if err := tx.AddSecret(k, box); err != nil {
			return err
		}
		return tx.SetGiven(store.Given{ServerID: s.ID, Holder: h, Secret: name})
	})
	if err == nil {
		d.settle(ctx, s, h)
	}
	return k, store.Explain(err, "secret", name)
}

// DropOwn ends the use of a person's or an agent's own credential at a server.
// Such a secret goes with its use.
func (d *Desk) DropOwn(ctx context.Context, by team.Person, server, agent string) error {
	s, err := d.store.ServerByName(ctx, server)
	if err != nil {
		return store.Explain(err, "server", server)
	}
	h, err := d.holderOf(ctx, by, s, agent, false)
	if err != nil {
		return err
	}
	return d.alter(ctx, by, "secret.drop", server, "", agent, "secrets", func(tx *store.Tx) error { return tx.DropGiven(s.ID, h) })
}

// KeySet tells about the key set of the locker.
type KeySet struct {
	Keys      []string `json:"keys" doc:"ids of the keys, the one in force last"`
	Rewrapped int      `json:"rewrapped" doc:"how many values were wrapped anew"`
}

// RotateKeys puts a further key in force, wraps everything with it, and then
// drops the keys before. The service goes on meanwhile.
func (d *Desk) RotateKeys(ctx context.Context, by team.Person) (KeySet, error) {
	id, err := d.keys.Rotate(ctx)
	if err != nil {
		return KeySet{}, &team.ConflictError{Field: "keys", Why: "the key set has no new key: " + err.Error(), Hint: "check the setting keys"}
	}
	n := 0
	err = d.alter(ctx, by, "locker.rotate", id, "", "", "secrets", func(tx *store.Tx) (err error) {
		n, err = tx.Rewrap(d.keys.Rewrap)
		return err
	})
	if err != nil {
		return KeySet{}, err
	}
	if err := d.keys.Retire(); err != nil {
		return KeySet{}, err
	}
	return KeySet{d.keys.IDs(), n}, nil
}

// Keys tells about the key set of the locker.
func (d *Desk) Keys() KeySet { return KeySet{Keys: d.keys.IDs()} }

// Backup writes a copy of the state to a new file. Secrets stay sealed in it.
func (d *Desk) Backup(ctx context.Context, path string) error { return d.store.Backup(ctx, path) }

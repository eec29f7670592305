// Package secrets keeps the stored credentials: entering, rotating and removing
// them, giving one to a holder, and the key set that seals them. Values go in and
// never come out; using them is the matter of package credential.
package secrets

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/credential"
	"bouncer/internal/locker"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Service keeps the secrets. It is safe for concurrent use.
type Service struct {
	store       *store.Store
	keys        *locker.Keys
	credentials *credential.Set
	pool        *upstream.Pool
	registry    *registry.Registry
	agents      *agents.Service
}

// New returns the service.
func New(s *store.Store, keys *locker.Keys, c *credential.Set, p *upstream.Pool, r *registry.Registry, a *agents.Service) *Service {
	return &Service{store: s, keys: keys, credentials: c, pool: p, registry: r, agents: a}
}

// maxOverlap is the longest time that a rotated value is still tried.
const maxOverlap = 7 * 24 * time.Hour

// List returns the secrets that a person may see, without values: members their
// own, and those of their agents.
func (svc *Service) List(ctx context.Context, by team.Person) ([]team.Secret, error) {
	svc.registry.FlushUse(ctx)
	list, err := svc.registry.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	owners, err := svc.owners(ctx)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(list, func(s team.Secret) bool { return !access.May(by, access.SeeSecrets, owners.of(s)) }), nil
}

// owners are the owners of agents, by the agent's name.
type owners map[string]string

func (svc *Service) owners(ctx context.Context) (owners, error) {
	all, err := svc.store.Agents(ctx, time.Now())
	if err != nil {
		return nil, fmt.Errorf("read the agents: %w", err)
	}
	out := owners{}
	for _, a := range all {
		out[a.Name] = a.Owner
	}
	return out, nil
}

// of is whose a secret is: a person's, or "" for the team's and its agents'.
func (o owners) of(s team.Secret) string {
	if s.Agent != "" {
		return o[s.Agent]
	}
	return s.Owner
}

// find returns a secret that a person may see, and whose it is.
func (svc *Service) find(ctx context.Context, by team.Person, name string) (s team.Secret, owner string, err error) {
	if s, err = svc.registry.Secret(ctx, name); err != nil {
		return s, "", err
	}
	all, err := svc.owners(ctx)
	if err != nil {
		return s, "", err
	}
	if owner = all.of(s); !access.May(by, access.SeeSecrets, owner) {
		return s, "", &team.NotFoundError{Kind: "secret", Name: name}
	}
	return s, owner, nil
}

// Inspect looks at a value without storing or returning it.
func (svc *Service) Inspect(kind, raw string) apitype.Inspection {
	if kind == "" {
		kind = team.KindBearer
	}
	v, notes, err := locker.Read(kind, raw)
	if err != nil {
		return apitype.Inspection{Problem: "the value " + err.Error()}
	}
	facts, ends := locker.Look(v)
	facts.Notes = notes
	out := apitype.Inspection{Facts: facts}
	if !ends.IsZero() {
		out.Ends = &ends
		out.Warning = team.Secret{Ends: &ends}.WarningAt(time.Now())
	}
	return out
}

// Add stores a secret under a name.
func (svc *Service) Add(ctx context.Context, by team.Person, n apitype.NewSecret) (team.Secret, error) {
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
	entered, err := svc.credentials.Enter(ctx, by, &s, credential.Input{Raw: n.Value, Source: n.Source, Ends: n.Ends})
	if err != nil {
		return s, err
	}
	if n.Server != "" {
		server, err := svc.store.ServerByName(ctx, n.Server)
		if err != nil {
			return s, store.Explain(err, "server", n.Server)
		}
		if err := svc.tryFor(ctx, server, team.Holder{}, entered); err != nil {
			return s, err
		}
	}
	change := registry.Change{By: by, What: "secret.add", Subject: n.Name, After: s.Kind, Topics: []string{"secrets"}}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.AddSecret(s, entered.Box) })
	s.Warning = s.WarningAt(time.Now())
	return s, store.Explain(err, "secret", n.Name)
}

// tryFor tries a server with one value in the place of its first secret.
func (svc *Service) tryFor(ctx context.Context, s team.Server, h team.Holder, e credential.Entered) error {
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return err
	}
	view.TryOwn(e, s.ID, h)
	c, err := view.For(s, h)
	if err != nil {
		return err
	}
	return svc.pool.Try(ctx, s, c)
}

// Rotate replaces a value. It is tried on the servers that are given the secret
// first, unless that is not wanted; the value before stays usable for as long as
// is asked.
func (svc *Service) Rotate(ctx context.Context, by team.Person, name string, n apitype.NewValue) (team.Secret, error) {
	s, owner, err := svc.find(ctx, by, name)
	if err != nil {
		return s, err
	}
	if !access.May(by, access.RotateSecrets, owner) {
		return s, &team.FieldError{Field: "secret", Why: fmt.Sprintf("%q is %s's own; nobody else replaces it", name, s.Owner+s.Agent)}
	}
	if n.Overlap < 0 || time.Duration(n.Overlap)*time.Hour > maxOverlap {
		return s, &team.FieldError{Field: "overlapHours", Why: "must be 0 to 168"}
	}
	entered, err := svc.credentials.Enter(ctx, by, &s, credential.Input{Raw: n.Value, Source: n.Source, Ends: n.Ends})
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
		if err := svc.tryRotation(ctx, s, entered); err != nil {
			return s, err
		}
	}
	change := registry.Change{By: by, What: "secret.rotate", Subject: name, Topics: []string{"secrets"}}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.RotateSecret(s, entered.Box) })
	s.Warning = s.WarningAt(now)
	return s, store.Explain(err, "secret", name)
}

// tryRotation tries a new value wherever the secret is used.
func (svc *Service) tryRotation(ctx context.Context, s team.Secret, e credential.Entered) error {
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return err
	}
	people, err := svc.store.People(ctx)
	if err != nil {
		return fmt.Errorf("read the people: %w", err)
	}
	view.TryRotated(e)
	for _, name := range s.UsedBy {
		server, err := svc.store.ServerByName(ctx, name)
		if err != nil {
			return store.Explain(err, "server", name)
		}
		for _, h := range view.Holders(server, people) {
			if uses(view, server, h, s) {
				if err := svc.tryServer(ctx, view, server, h); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// uses reports whether a holder's connection to a server is given a secret.
func uses(view *credential.View, s team.Server, h team.Holder, secret team.Secret) bool {
	if own := view.SecretOf(s.ID, h); own != "" {
		return own == secret.ID
	}
	name := secret.Name
	return !secret.Own() && (s.Secret == name || s.ClientKey == name || slices.Contains(serverspec.NamedSecrets(s), name))
}

func (svc *Service) tryServer(ctx context.Context, view *credential.View, s team.Server, h team.Holder) error {
	c, err := view.Fresh(s, h)
	if err != nil {
		return err
	}
	if c.ClientKey != nil {
		key, err := c.ClientKey(ctx)
		if err != nil {
			return err
		}
		if err := serverspec.CheckPair(s, key.Reveal()); err != nil {
			return err
		}
	}
	return svc.pool.Try(ctx, s, c)
}

// Remove removes a secret that no server is given.
func (svc *Service) Remove(ctx context.Context, by team.Person, name string) error {
	s, owner, err := svc.find(ctx, by, name)
	if err != nil {
		return err
	}
	if !access.May(by, access.RemoveSecrets, owner) {
		return &team.FieldError{Field: "secret", Why: fmt.Sprintf("%q is %s's own; ask them, or an admin", name, s.Owner+s.Agent)}
	}
	if len(s.UsedBy) > 0 && !s.Own() {
		err = store.ErrInUse
	} else {
		change := registry.Change{By: by, What: "secret.remove", Subject: name, Before: s.Kind, Topics: []string{"secrets"}}
		err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.RemoveSecret(s.ID) })
	}
	if errors.Is(err, store.ErrInUse) {
		return &team.ConflictError{
			Field: "name",
			Why:   fmt.Sprintf("secret %q is given to %v", name, s.UsedBy),
			Hint:  "remove those servers, or give them another secret first",
		}
	}
	return store.Explain(err, "secret", name)
}

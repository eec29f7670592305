package registry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/credential"
	"bouncer/internal/store"
)

// rows is what is stored, as one publication reads it.
type rows struct {
	servers []team.Server
	secrets []store.SealedSecret
	own     []store.OwnSecret
	signIns []store.StoredSignIn
	agents  []team.Agent
	passes  []store.StoredPass
	rules   []team.Rule
	people  []team.Person
	labels  []team.Label
	bundles []team.Bundle
	budgets []team.Budget
	reviews store.Reviews
}

func (r *Registry) read(ctx context.Context) (out rows, err error) {
	s := r.o.Store
	var errs [12]error
	out.servers, errs[0] = s.Servers(ctx)
	out.secrets, errs[1] = s.SealedSecrets(ctx)
	out.own, errs[2] = s.Credentials().Given(ctx)
	out.signIns, errs[3] = s.Credentials().SignIns(ctx)
	out.agents, errs[4] = s.Agents(ctx, time.Now())
	out.passes, errs[5] = s.Passes(ctx)
	out.rules, errs[6] = s.Control().Rules(ctx)
	out.people, errs[7] = s.People(ctx)
	out.labels, errs[8] = s.Control().Labels(ctx)
	out.bundles, errs[9] = s.Control().Bundles(ctx)
	out.budgets, errs[10] = s.Control().Budgets(ctx)
	out.reviews, errs[11] = s.Control().Reviews(ctx)
	return out, errors.Join(errs[:]...)
}

func (r rows) credentials() credential.Rows {
	names := make(map[string]string, len(r.agents))
	for _, a := range r.agents {
		names[a.ID] = a.Name
	}
	return credential.Rows{Secrets: r.secrets, Own: r.own, SignIns: r.signIns, Agents: names}
}

// Credentials returns a View of what is stored now, for trials. It is not put in
// force.
func (r *Registry) Credentials(ctx context.Context) (*credential.View, error) {
	rows, err := r.read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the register: %w", err)
	}
	return r.o.Credentials.View(rows.credentials()), nil
}

// Secrets returns every secret without its value, with who uses it and what has to
// be done about it soon.
func (r *Registry) Secrets(ctx context.Context) ([]team.Secret, error) {
	list, err := r.o.Store.Secrets(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the secrets: %w", err)
	}
	servers, err := r.o.Store.Servers(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the servers: %w", err)
	}
	now := time.Now()
	for i := range list {
		s := &list[i]
		for _, server := range servers {
			if slices.Contains(serverspec.NamedSecrets(server), s.Name) && !slices.Contains(s.UsedBy, server.Name) {
				s.UsedBy = append(s.UsedBy, server.Name)
			}
		}
		if s.Overlap != nil && now.After(*s.Overlap) {
			s.Overlap = nil
		}
		s.Warning = s.WarningAt(now)
	}
	return list, nil
}

// Secret returns one secret without its value. The error is a *team.NotFoundError
// when there is none of that name.
func (r *Registry) Secret(ctx context.Context, name string) (team.Secret, error) {
	list, err := r.Secrets(ctx)
	if err != nil {
		return team.Secret{}, err
	}
	at := slices.IndexFunc(list, func(s team.Secret) bool { return s.Name == name })
	if at < 0 {
		return team.Secret{}, &team.NotFoundError{Kind: "secret", Name: name}
	}
	return list[at], nil
}

// TeamSecret returns a secret that is nobody's own.
func (r *Registry) TeamSecret(ctx context.Context, name string) (team.Secret, error) {
	s, err := r.Secret(ctx, name)
	if whose := s.Owner + s.Agent; err == nil && s.Own() {
		err = &team.FieldError{
			Field: "secret",
			Why:   fmt.Sprintf("%q is %s's own and goes where %s gave it only; store one for the team", name, whose, whose),
		}
	}
	return s, err
}

// CheckNamed checks that the secrets named in a server's settings are there, and
// that none is somebody's own: it would be sent wherever the server is.
func (r *Registry) CheckNamed(ctx context.Context, s team.Server, further ...string) error {
	for _, name := range append(append(serverspec.NamedSecrets(s), s.ClientKey), further...) {
		if name == "" {
			continue
		}
		if _, err := r.TeamSecret(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

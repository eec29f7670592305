// Package servers keeps the registered tool servers: registering one reaches it
// first, altering one tries what is new before it is stored, and each is shown with
// its health. What a registration may say is the matter of core/serverspec.
package servers

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/credential"
	"bouncer/internal/link"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Options configure a Service.
type Options struct {
	Address     string       // base URL under which people reach the service; required
	Link        link.Options // for documents that are fetched
	NoProcesses bool         // refuses servers that are commands
	// Explain looks closely at a server that cannot be reached, as it would be registered or
	// altered, and tells the cause; ok is false when it finds none.
	Explain func(ctx context.Context, s team.Server, c link.Credential) (f diagnosis.Finding, ok bool)
}

// Service keeps the servers. It is safe for concurrent use.
type Service struct {
	o           Options
	store       *store.Store
	credentials *credential.Set
	pool        *upstream.Pool
	registry    *registry.Registry
}

// New returns the service.
func New(s *store.Store, c *credential.Set, p *upstream.Pool, r *registry.Registry, o Options) *Service {
	return &Service{o: o, store: s, credentials: c, pool: p, registry: r}
}

// List returns every server, as far as a person may see it.
func (svc *Service) List(ctx context.Context, by team.Person) ([]apitype.ServerInfo, error) {
	list, err := svc.store.Servers(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the servers: %w", err)
	}
	out := make([]apitype.ServerInfo, 0, len(list))
	for _, s := range list {
		out = append(out, shown(by, svc.info(s)))
	}
	return out, nil
}

// shown is a server as a person may see it. How it is set up is the business of those
// who may alter it: headers, arguments and variables hold what nobody meant to tell
// everybody.
func shown(by team.Person, s apitype.ServerInfo) apitype.ServerInfo {
	if access.May(by, access.SeeSetup, "") {
		return s
	}
	s.Args, s.Dir, s.CA, s.ClientCert, s.Health.Stderr = nil, "", "", "", ""
	s.Env, s.Headers = namesOnly(s.Env, "="), namesOnly(s.Headers, ":")
	return s
}

// namesOnly takes the values off.
func namesOnly(list []string, sep string) []string {
	out := make([]string, len(list))
	for i, v := range list {
		name, _, _ := strings.Cut(v, sep)
		out[i] = name
	}
	return out
}

// Get returns one server, as far as a person may see it.
func (svc *Service) Get(ctx context.Context, by team.Person, name string) (apitype.ServerInfo, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return apitype.ServerInfo{}, store.Explain(err, "server", name)
	}
	return shown(by, svc.info(s)), nil
}

// Tools returns the tools of one server.
func (svc *Service) Tools(ctx context.Context, name string) ([]tools.Tool, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	if c, _ := svc.pool.Best(s.ID); c != nil {
		return c.Status().Offer.Lists[tools.Tools], nil
	}
	return svc.store.Edition(ctx, s.ID)
}

// Offered returns what a server offers of one kind. Of a server that is not reached, only
// the tools of its last edition are known.
func (svc *Service) Offered(ctx context.Context, name string, kind tools.Kind) ([]tools.Tool, error) {
	if kind == tools.Tools {
		return svc.Tools(ctx, name)
	}
	if !slices.Contains(tools.Kinds, kind) {
		return nil, &team.FieldError{Field: "kind", Why: "must be tools, prompts, resources or resourceTemplates"}
	}
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	if c, _ := svc.pool.Best(s.ID); c != nil {
		return c.Status().Offer.Lists[kind], nil
	}
	return nil, nil
}

// Editions returns the recorded states of a server's tool list, newest first,
// each with what it changed.
func (svc *Service) Editions(ctx context.Context, name string) ([]team.Edition, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	return svc.store.Editions(ctx, s.ID)
}

// Health is how a server does now.
func (svc *Service) Health(s team.Server) team.Health { return svc.info(s).Health }

func (svc *Service) info(s team.Server) apitype.ServerInfo {
	out := apitype.ServerInfo{Server: s, Health: team.Health{State: team.StatePaused}}
	if s.SignIn != nil {
		out.Redirect = svc.o.Address + apitype.CallbackPath
	}
	if c, _ := svc.pool.Best(s.ID); c != nil {
		out.Health = c.Status().Health
	} else if !s.Paused && (s.SignIn != nil || s.Per == team.PerPerson || s.Per == team.PerAgent) {
		out.Health = team.Health{State: team.StateWaiting, Since: s.Created}
	}
	return out
}

// Progress returns what an attempt at reaching a server is doing now: one that is
// registered, or that is being registered under the name.
func (svc *Service) Progress(name string) apitype.Progress {
	step, ok := svc.o.Link.Progress.At(name)
	if !ok {
		return apitype.Progress{}
	}
	return apitype.Progress{Busy: true, Stage: step.Stage, Seconds: time.Since(step.Since).Seconds(), Words: step.Words}
}

// Check reaches a server again, from the beginning.
func (svc *Service) Check(ctx context.Context, name string) (apitype.ServerInfo, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return apitype.ServerInfo{}, store.Explain(err, "server", name)
	}
	c, h := svc.pool.Best(s.ID)
	if c == nil {
		if svc.info(s).Health.State == team.StateWaiting {
			return apitype.ServerInfo{}, &team.ConflictError{
				Field: "name",
				Why:   fmt.Sprintf("nobody has a credential for server %q yet", name),
				Hint:  "sign in at " + svc.o.Address + apitype.ConnectPath + name,
			}
		}
		return apitype.ServerInfo{}, &team.ConflictError{
			Field: "paused",
			Why:   fmt.Sprintf("server %q is paused", name),
			Hint:  "resume it first",
		}
	}
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	given, err := view.For(s, h)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	fresh, err := svc.pool.Dial(s, given)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	c.Check(ctx, fresh)
	return svc.info(s), nil
}

// Restart replaces what runs of a server by what lies on the disk or answers at its
// address now. What does not answer replaces nothing: a *team.ProbeError says why.
func (svc *Service) Restart(ctx context.Context, by team.Person, name string) (apitype.ServerInfo, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return apitype.ServerInfo{}, store.Explain(err, "server", name)
	}
	if c, _ := svc.pool.Best(s.ID); c == nil {
		return svc.Check(ctx, name) // which says what it waits for
	}
	st, err := svc.pool.Restart(ctx, s.ID)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	if st.Finding != nil {
		return apitype.ServerInfo{}, &team.ProbeError{
			What: "the new one does not answer, and what runs goes on", Finding: *st.Finding, Stages: st.Stages,
		}
	}
	change := registry.Change{By: by, What: "server.restart", Subject: name, Topics: []string{"servers"}}
	if err := svc.registry.Write(ctx, change, func(*store.Tx) error { return nil }); err != nil {
		return apitype.ServerInfo{}, err
	}
	return svc.info(s), nil
}

// Dependents tells what hangs on a server, and what becomes of it when it is removed.
func (svc *Service) Dependents(ctx context.Context, name string) ([]team.Dependent, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	return svc.store.DependOnServer(ctx, s.ID)
}

// Remove removes a server; its secret stays.
func (svc *Service) Remove(ctx context.Context, by team.Person, name string) error {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return store.Explain(err, "server", name)
	}
	change := registry.Change{By: by, What: "server.remove", Subject: name, Before: serverspec.Summary(s), Topics: []string{"servers"}}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.RemoveServer(s.ID) })
	return store.Explain(err, "server", name)
}

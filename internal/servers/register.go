package servers

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/credential"
	"bouncer/internal/link"
	"bouncer/internal/oauth"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Register reaches the server, lists its tools and registers it. When it cannot
// be reached the error is a *team.ProbeError and nothing is registered.
func (svc *Service) Register(ctx context.Context, by team.Person, r serverspec.Registration) (apitype.ServerInfo, error) {
	now := time.Now().UTC()
	s, err := svc.describe(ctx, r, now)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	if err := mayReachInside(by, team.Server{}, s); err != nil {
		return apitype.ServerInfo{}, err
	}
	g, err := svc.provide(ctx, by, &s, r, now)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	st, err := svc.reach(ctx, &s, g, r)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	if state, ok := svc.credentials.State(s.ID, g.holder); ok {
		s.Issuer = state.Issuer // it is kept to from its first success on
	}
	change := registry.Change{By: by, What: "server.register", Subject: s.Name, After: serverspec.Summary(s), Topics: []string{"servers"}}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return g.write(tx, s, now, st) })
	if err != nil {
		svc.pool.Discard(ctx, upstream.Key{Server: s.ID, Holder: g.holder})
		return apitype.ServerInfo{}, err
	}
	return svc.info(s), nil
}

// describe is the server that a registration describes: all that can be known
// without reaching it.
func (svc *Service) describe(ctx context.Context, r serverspec.Registration, now time.Time) (team.Server, error) {
	if err := team.CheckName("name", r.Name); err != nil {
		return team.Server{}, err
	}
	if r.Document == "" && r.DocumentURL != "" {
		text, err := svc.fetchDocument(ctx, r.DocumentURL)
		if err != nil {
			return team.Server{}, err
		}
		r.Document = text
	}
	s, err := serverspec.Describe(r, team.NewID(), now)
	if err != nil {
		return s, err
	}
	if s.Transport == team.Stdio && svc.o.NoProcesses {
		return s, &team.FieldError{Field: "command", Why: "is not possible here: the service was started with processes off"}
	}
	if _, err := svc.store.ServerByName(ctx, r.Name); err == nil {
		return s, store.Explain(store.ErrTaken, "server", r.Name)
	} else if !errors.Is(err, store.ErrNotFound) {
		return s, fmt.Errorf("look whether the name is taken: %w", err)
	}
	return s, nil
}

// provision is what a new server is given.
type provision struct {
	link.Credential
	holder  team.Holder
	add     *team.Secret // stored with the server; nil for none
	entered credential.Entered
	own     bool // the secret is the registrar's own
	waits   bool // somebody has to sign in first
}

// provide finds what a new server is given: a token that becomes a secret of its
// own, or stored secrets, or a grant.
func (svc *Service) provide(
	ctx context.Context,
	by team.Person,
	s *team.Server,
	r serverspec.Registration,
	now time.Time,
) (g provision, err error) {
	switch {
	case r.Token != "" && r.Secret != "":
		return g, &team.FieldError{Field: "secret", Why: "and token exclude each other; give one of them"}
	case s.SignIn != nil && (r.Token != "" || r.Secret != ""):
		return g, &team.FieldError{Field: "signIn", Why: "and a token exclude each other; give one of them"}
	}
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return g, err
	}
	if err := svc.registry.CheckNamed(ctx, *s, r.Secret); err != nil {
		return g, err
	}
	ofTeam := s.Per == "" || s.Per == team.PerTeam
	switch {
	case r.Token != "":
		if err := svc.enterToken(ctx, by, s, r.Token, now, view, &g); err != nil {
			return g, err
		}
	case r.Secret != "":
		if !view.Has(r.Secret) {
			return g, &team.NotFoundError{Kind: "secret", Name: r.Secret}
		}
		s.Secret = r.Secret
	case !ofTeam && s.SignIn == nil:
		g.waits = true
		return g, nil
	}
	if s.SignIn != nil && !team.OfBouncer(s.SignIn) {
		g.waits = true
		return g, nil
	}
	if g.Credential, err = view.For(*s, g.holder); err != nil {
		return g, err
	}
	return g, checkPair(ctx, *s, g.Credential)
}

// enterToken makes a secret of a token: the server's, or the registrar's own.
func (svc *Service) enterToken(
	ctx context.Context,
	by team.Person,
	s *team.Server,
	token string,
	now time.Time,
	view *credential.View,
	g *provision,
) (err error) {
	g.add = credential.NewSecret(*s, secretName(*s), now)
	switch s.Per {
	case team.PerPerson:
		g.add.Name, g.add.Owner, g.own, g.holder = s.Name+":"+by.Name, by.Name, true, team.Holder{Person: by.ID}
	case team.PerAgent:
		return &team.FieldError{Field: "token", Why: "is not possible here: each agent gets its own (bouncer secret own)"}
	}
	if g.entered, err = svc.credentials.Enter(ctx, by, g.add, credential.Input{Raw: token}); err != nil {
		return ofToken(err)
	}
	svc.credentials.Prepare(g.entered)
	if g.own {
		view.TryOwn(g.entered, s.ID, g.holder)
		return nil
	}
	view.Try(g.entered)
	s.Secret = g.add.Name
	return nil
}

// ofToken lets an error about a value speak of the token, as the field is called.
func ofToken(err error) error {
	var field *team.FieldError
	if errors.As(err, &field) {
		field.Field = "token"
	}
	return err
}

// secretName is what a server's own secret is called.
func secretName(s team.Server) string {
	if s.Transport == team.Stdio {
		return s.Name + "-variable"
	}
	return s.Name + "-token"
}

// checkPair checks that a client certificate and its key fit.
func checkPair(ctx context.Context, s team.Server, c link.Credential) error {
	if c.ClientKey == nil {
		return serverspec.CheckPair(s, "")
	}
	key, err := c.ClientKey(ctx)
	if err != nil {
		return err
	}
	return serverspec.CheckPair(s, key.Reveal())
}

// reach reaches a new server. The conversation is left with the pool, so that the
// one that was probed becomes the one in use.
func (svc *Service) reach(ctx context.Context, s *team.Server, g provision, r serverspec.Registration) (st link.Status, err error) {
	if g.waits {
		if s.SignIn == nil || r.Anyway {
			return st, nil
		}
		_, _, err := svc.credentials.Discover(ctx, *s)
		return st, err
	}
	transport, st, err := svc.pool.Probe(ctx, s, g.Credential, r.Transport == "" && s.Transport == team.StreamableHTTP)
	if err != nil {
		return st, err
	}
	if st.State != team.StateReady && !r.Anyway {
		transport.Close(ctx)
		why := &team.ProbeError{Finding: *st.Finding, Stages: st.Stages}
		svc.explain(ctx, *s, g.Credential, why)
		why.Finding = why.Finding.WhileRegistering(s.Name)
		return st, svc.hintSignIn(ctx, *s, why)
	}
	svc.pool.Offer(*s, g.holder, g.Credential, transport, st)
	return st, nil
}

// explain has the cause told instead of what the conversation saw.
func (svc *Service) explain(ctx context.Context, s team.Server, c link.Credential, why *team.ProbeError) {
	if s.Transport == team.REST || s.SignIn != nil || svc.o.Explain == nil {
		return // what its grant says is more than a server says
	}
	if f, ok := svc.o.Explain(ctx, s, c); ok {
		why.Finding = f
		if last := len(why.Stages) - 1; last >= 0 && !why.Stages[last].OK {
			why.Stages[last].Note = f.Message // one failure is told in the same words everywhere
		}
	}
}

// hintSignIn says that a server wants a sign-in, where it says so itself.
func (svc *Service) hintSignIn(ctx context.Context, s team.Server, p *team.ProbeError) error {
	if p.Finding.Cause != diagnosis.NoCredential || (s.Transport != team.StreamableHTTP && s.Transport != team.EventStream) {
		return p
	}
	a, _, err := svc.credentials.Discover(ctx, s)
	var r *oauth.Error
	switch {
	case err == nil && !a.Guessed:
		p.Finding.Cause, p.Finding.Message = diagnosis.SignInNeeded, "the server wants a sign-in at "+a.Issuer
		p.Finding.Remedy = "register it with --sign-in code, and --per person if each person has an account of their own there"
	case errors.As(err, &r) && r.Step == oauth.StepResource && !strings.Contains(r.Why, "cannot be read"):
		p.Finding.Cause, p.Finding.Message, p.Finding.Remedy = diagnosis.ResourceMetadata, "the server wants a sign-in, but "+r.Why, r.Remedy()
	}
	return p
}

// write writes a new server with what it is given.
func (g provision) write(tx *store.Tx, s team.Server, now time.Time, st link.Status) error {
	if g.add != nil && !g.own {
		if err := tx.AddSecret(*g.add, g.entered.Box); err != nil {
			return store.Explain(err, "secret", g.add.Name)
		}
	}
	if err := tx.AddServer(s); err != nil {
		return store.Explain(err, "server", s.Name)
	}
	if g.own {
		if err := tx.AddOwnSecret(*g.add, g.entered.Box, s.ID, g.holder); err != nil {
			return fmt.Errorf("give a server somebody's own secret: %w", err)
		}
	}
	if st.State != team.StateReady {
		return nil
	}
	return tx.AddEdition(s.ID, now, st.Offer.Lists[tools.Tools])
}

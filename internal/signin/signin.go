// Package signin is how people sign in at servers: an authorization is begun,
// taken up when the browser comes back, kept as a grant of its holder, shown, and
// revoked. Keeping grants fresh is the matter of package credential.
package signin

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/credential"
	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Options configure a Service; all but the last are required.
type Options struct {
	Address  string // base URL under which people reach the service
	Redirect string // Bouncer's own redirect address
	Log      *slog.Logger
	Now      func() time.Time // the clock; nil is time.Now
}

// Service begins and finishes sign-ins at servers. It is safe for concurrent use.
type Service struct {
	o           Options
	store       *store.Store
	keys        *locker.Keys
	oauth       *oauth.Client
	credentials *credential.Set
	pool        *upstream.Pool
	registry    *registry.Registry
	agents      *agents.Service
	masks       *mask.Set
	pending     *oauth.Pending[subject]
	problems    *oauth.Problems
}

// subject is what an authorization under way is for.
type subject struct {
	server team.Server
	holder team.Holder
	by     team.Person
}

// Deps are what a Service works with.
type Deps struct {
	Store       *store.Store
	Keys        *locker.Keys
	OAuth       *oauth.Client
	Credentials *credential.Set
	Pool        *upstream.Pool
	Registry    *registry.Registry
	Agents      *agents.Service
	Masks       *mask.Set
	Problems    *oauth.Problems
}

// New returns the service.
func New(d Deps, o Options) *Service {
	return &Service{
		o: o, store: d.Store, keys: d.Keys, oauth: d.OAuth, credentials: d.Credentials, pool: d.Pool, registry: d.Registry, agents: d.Agents,
		masks: d.Masks, pending: oauth.NewPending[subject](o.Now), problems: d.Problems,
	}
}

// Problem returns why a sign-in failed.
func (svc *Service) Problem(id string) (team.SignInProblem, error) { return svc.problems.Get(id) }

// Begin begins a sign-in at a server. browser is what only the browser that begins
// will show again. Errors are *oauth.Error besides the usual.
func (svc *Service) Begin(ctx context.Context, by team.Person, try apitype.SignInTry, browser string) (apitype.SignInStart, error) {
	s, err := svc.store.ServerByName(ctx, try.Server)
	if err != nil {
		return apitype.SignInStart{}, store.Explain(err, "server", try.Server)
	}
	if s.SignIn == nil || s.SignIn.Grant != team.GrantCode {
		return apitype.SignInStart{}, &team.ConflictError{
			Field: "server",
			Why:   fmt.Sprintf("nobody signs in at server %q", s.Name),
			Hint:  "it takes a stored secret, or none",
		}
	}
	h, err := svc.agents.HolderFor(ctx, by, s, try.Agent, try.Team)
	if err != nil {
		return apitype.SignInStart{}, err
	}
	m, challenge, err := svc.credentials.Discover(ctx, s)
	if err != nil {
		return apitype.SignInStart{}, err
	}
	// A further scope is asked for together with those granted already.
	state, _ := svc.credentials.State(s.ID, h)
	wanted := strings.TrimSpace(challenge.Scope + " " + s.SignIn.Scope + " " + state.Missing)
	scope := m.ScopesFor(wanted, state.Scope)
	id, err := svc.identityAt(ctx, by, s, m, scope)
	if err != nil {
		return apitype.SignInStart{}, err
	}
	a, to, err := oauth.Begin(m, id, svc.o.Redirect, scope)
	if err != nil {
		return apitype.SignInStart{}, err
	}
	pending := oauth.PendingAuthorization[subject]{Authorization: a, About: subject{s, h, by}, Person: by.ID, Back: try.Back}
	if !svc.pending.Put(pending, browser) {
		return apitype.SignInStart{}, &team.ConflictError{Why: "too many sign-ins are under way", Hint: "finish some, or wait ten minutes"}
	}
	return apitype.SignInStart{URL: to}, nil
}

// identityAt finds who Bouncer is at an authorization server: the client of the
// server's settings, else Bouncer's own document, else what it registered there
// before, else a new registration. Nothing of one issuer is shown to another.
func (svc *Service) identityAt(
	ctx context.Context,
	by team.Person,
	s team.Server,
	m oauth.Metadata,
	scope string,
) (oauth.ClientIdentity, error) {
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return oauth.ClientIdentity{}, err
	}
	if id, ok, err := view.Client(ctx, s); ok || err != nil {
		return id, err
	}
	if m.Documents && strings.HasPrefix(svc.o.Address, "https://") {
		return oauth.ClientIdentity{ID: svc.o.Address + apitype.DocumentPath, Method: "none"}, nil
	}
	box, err := svc.store.Credentials().Client(ctx, m.Issuer, svc.o.Redirect)
	lost := svc.pending.Lost(by.ID, func(other subject) bool { return other.server.ID == s.ID })
	if err == nil && !lost {
		if kept, err := oauth.OpenRecord(svc.keys, box); err == nil {
			return kept.Client(), nil
		}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return oauth.ClientIdentity{}, fmt.Errorf("read who Bouncer is at %s: %w", m.Issuer, err)
	}
	return svc.register(credential.Inside(ctx, s), m, scope)
}

// register registers Bouncer at an authorization server, and keeps who it is there.
func (svc *Service) register(ctx context.Context, m oauth.Metadata, scope string) (oauth.ClientIdentity, error) {
	id, err := svc.oauth.RegisterClient(ctx, m, svc.o.Redirect, scope)
	if err != nil {
		return id, err
	}
	record := oauth.NewRecord(oauth.Metadata{}, id, oauth.Tokens{})
	svc.masks.Learn(record.Secrets()...)
	box, err := record.Seal(svc.keys, team.NewID())
	if err != nil {
		return id, err
	}
	err = svc.store.Update(ctx, func(tx *store.Tx) error { return tx.PutClient(m.Issuer, svc.o.Redirect, box, time.Now()) })
	if err != nil {
		return id, fmt.Errorf("keep who Bouncer is at %s: %w", m.Issuer, err)
	}
	return id, nil
}

// Finish takes up the answer of an authorization server and returns the page of
// the console that says what became of it; ok is false when the answer belongs to
// no sign-in that was begun here. Whatever it is, it is looked at once.
func (svc *Service) Finish(ctx context.Context, answer url.Values, browser string) (page string, ok bool) {
	pending, ok := svc.pending.Take(answer.Get("state"))
	if !ok {
		return "", false
	}
	at := pending.About
	page = strings.TrimPrefix(svc.connectLink(ctx, at.server, at.holder), svc.o.Address)
	if strings.Contains(page, "?") {
		page += "&"
	} else {
		page += "?"
	}
	problem, err := team.SignInProblem{}, error(nil)
	if !pending.BegunIn(browser) {
		problem = team.SignInProblem{
			What: "This sign-in was begun in another browser, so nothing was granted",
			Hint: "begin it again in this browser",
			Step: oauth.StepAuthorize,
		}
	} else if err = svc.take(ctx, pending, answer); err != nil {
		problem = oauth.ProblemOf(err)
		var late *registry.NotInForceError
		if errors.As(err, &late) {
			problem = team.SignInProblem{
				What: "The sign-in is kept, but is not in use yet: " + late.Err.Error(),
				Hint: "nothing has to be granted again; it is in use after the next change, or when the service starts again",
			}
		}
	}
	switch {
	case problem.What != "":
		svc.o.Log.Warn(
			"a sign-in failed",
			"server",
			at.server.Name,
			"person",
			at.by.Name,
			"step",
			problem.Step,
			"code",
			problem.Code,
			"why",
			problem.What,
		)
		return page + "problem=" + svc.problems.Add(problem), true
	case pending.Back != "":
		return pending.Back, true
	}
	return page + "done=1", true
}

// Unknown returns the page for an answer that belongs to no sign-in under way.
func (svc *Service) Unknown() string {
	return "/sign-ins?problem=" + svc.problems.Add(team.SignInProblem{
		What: "This sign-in is not known: it was used already, took longer than ten minutes, or Bouncer was restarted",
		Hint: "begin it again", Step: oauth.StepAuthorize,
	})
}

// take exchanges the code of an answer and keeps what is granted.
func (svc *Service) take(ctx context.Context, pending oauth.PendingAuthorization[subject], answer url.Values) error {
	t, err := svc.oauth.ExchangeCode(credential.Inside(ctx, pending.About.server), pending.Authorization, answer)
	if err == nil {
		return svc.keep(ctx, pending, t)
	}
	var refused *oauth.Error
	if errors.As(err, &refused) && refused.Code == "invalid_client" && pending.About.server.SignIn.ClientID == "" {
		// It no longer knows what was registered; the next try registers anew.
		_ = svc.store.Update(ctx, func(tx *store.Tx) error { return tx.DropClient(pending.Server.Issuer, pending.Redirect) })
	}
	return err
}

// keep stores a grant, puts it in force, and waits until it has been tried.
func (svc *Service) keep(ctx context.Context, pending oauth.PendingAuthorization[subject], t oauth.Tokens) error {
	at := pending.About
	if err := svc.stillMay(ctx, at); err != nil {
		return err
	}
	record := oauth.NewRecord(pending.Server, pending.Identity, t)
	svc.masks.Learn(record.Secrets()...)
	row := store.StoredSignIn{
		ID:       team.NewID(),
		ServerID: at.server.ID,
		Holder:   at.holder,
		Issuer:   pending.Server.Issuer,
		Created:  time.Now().UTC(),
	}
	row, err := credential.SealGrant(svc.keys, row, record)
	if err != nil {
		return err
	}
	change := registry.Change{
		By: at.by, What: "sign-in.make", Subject: at.server.Name, After: fmt.Sprintf("at %s, scope %q", row.Issuer, row.Scope),
		Topics: []string{"sign-ins", "servers"},
	}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error {
		// It is kept to from its first success on.
		if err := tx.PinIssuer(at.server.ID, row.Issuer); err != nil {
			return err
		}
		return tx.PutSignIn(row)
	})
	if err != nil {
		return store.Explain(err, "server", at.server.Name)
	}
	svc.pool.WaitTried(ctx, upstream.Key{Server: at.server.ID, Holder: at.holder})
	// What the server offers is to be in force when the browser says that it is done.
	return svc.registry.Refresh()
}

// stillMay reports whether what a sign-in was begun for still stands: the server as it
// was, and the right of whoever signed in to do so for its holder.
func (svc *Service) stillMay(ctx context.Context, at subject) error {
	changed := &oauth.Error{Step: oauth.StepToken, Why: "things changed while you were signing in, so nothing was granted; begin again"}
	s, err := svc.store.ServerByName(ctx, at.server.Name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return changed
	case err != nil:
		return fmt.Errorf("read server %s: %w", at.server.Name, err)
	case s.ID != at.server.ID || s.URL != at.server.URL || s.SignIn == nil || *s.SignIn != *at.server.SignIn:
		return changed
	}
	by, err := svc.store.PersonByName(ctx, at.by.Name)
	if errors.Is(err, store.ErrNotFound) || (err == nil && by.ID != at.by.ID) {
		return changed
	}
	if err != nil {
		return fmt.Errorf("read person %s: %w", at.by.Name, err)
	}
	agent := ""
	if at.holder.Agent != "" {
		known := svc.registry.Current().Agents[at.holder.Agent]
		if known == nil {
			return changed
		}
		agent = known.Name
	}
	h, err := svc.agents.HolderFor(ctx, by, s, agent, at.holder == team.Holder{})
	if err != nil || h != at.holder {
		return changed
	}
	return nil
}

// connectLink is where a holder signs in.
func (svc *Service) connectLink(ctx context.Context, s team.Server, h team.Holder) string {
	name := ""
	if known := svc.registry.Current().Agents[h.Agent]; known != nil {
		name = known.Name
	}
	return apitype.ConnectLink(svc.o.Address, s.Name, h, name)
}

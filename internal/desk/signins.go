package desk

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
	"bouncer/internal/token"
)

// Addresses of Bouncer that other parties are told.
const (
	CallbackPath = "/sign-in/callback"     // where authorization servers send the browser back to
	DocumentPath = "/client-metadata.json" // client-id metadata document of Bouncer
	ConnectPath  = "/connect/"             // console page where a credential is supplied
)

// Limits on authorizations under way.
const (
	flowTime    = 10 * time.Minute
	lostAfter   = 5 * time.Second
	maxFlows    = 2_000
	maxPerson   = 20 // of one person
	maxProblems = 500
)

// pendingFlow is an authorization under way. It belongs to the browser that
// began it.
type pendingFlow struct {
	flow    *oauth.Authorization
	server  team.Server // empty for a sign-in to Bouncer itself
	holder  team.Holder
	by      team.Person
	browser [32]byte // hash of what the browser shows
	back    string
	until   time.Time
}

// flows are the authorizations under way, and what went wrong with those that
// ended badly. They are kept in memory: after a restart people begin again.
type flows struct {
	mu       sync.Mutex
	byState  map[string]pendingFlow
	problems map[string]team.Problem
	order    []string
}

func newFlows() *flows {
	return &flows{byState: map[string]pendingFlow{}, problems: map[string]team.Problem{}}
}

// put keeps a flow; false when there are too many.
func (f *flows) put(p pendingFlow) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	now, mine := time.Now(), 0
	for state, q := range f.byState {
		if now.After(q.until) {
			delete(f.byState, state)
		} else if q.by.ID == p.by.ID {
			mine++
		}
	}
	if len(f.byState) >= maxFlows || (p.by.ID != "" && mine >= maxPerson) {
		return false
	}
	f.byState[p.flow.State] = p
	return true
}

// lost reports whether somebody began a sign-in at a server a moment ago that
// never came back: the authorization server may no longer know who Bouncer is,
// and tell only the person so.
func (f *flows) lost(serverID, personID string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.byState {
		if p.server.ID == serverID && p.by.ID == personID && time.Until(p.until) < flowTime-lostAfter {
			return true
		}
	}
	return false
}

// take takes a flow out: every answer is looked at once.
func (f *flows) take(state string) (pendingFlow, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p, ok := f.byState[state]
	delete(f.byState, state)
	return p, ok && time.Now().Before(p.until)
}

// fail keeps why a sign-in failed and returns its number.
func (f *flows) fail(p team.Problem) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	id := strings.ToLower(team.NewID())
	f.problems[id] = p
	if f.order = append(f.order, id); len(f.order) > maxProblems {
		delete(f.problems, f.order[0])
		f.order = f.order[1:]
	}
	return id
}

// SignInProblem returns why a sign-in failed.
func (d *Desk) SignInProblem(id string) (team.Problem, error) {
	d.flows.mu.Lock()
	defer d.flows.mu.Unlock()
	p, ok := d.flows.problems[id]
	if !ok {
		return p, &team.NotFoundError{Kind: "sign-in problem", Name: id}
	}
	return p, nil
}

func problemOf(err error) team.Problem {
	var r *oauth.Error
	if errors.As(err, &r) {
		return team.Problem{What: sentence(r.Why), Hint: r.Remedy(), Step: r.Step, Code: r.Code}
	}
	return team.Problem{What: err.Error(), Hint: "try again; the service's log says more"}
}

func sentence(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (d *Desk) connectLink(server string, h team.Holder) string {
	at := d.o.Address + ConnectPath + server
	switch {
	case h.Agent != "":
		name, _ := d.agentNames.Load(h.Agent)
		return at + fmt.Sprintf("?agent=%v", name)
	case h.Person == "":
		return at + "?for=team"
	}
	return at
}

// SignInTry asks for a sign-in at a server.
type SignInTry struct {
	Server string `json:"server"`
	Agent  string `json:"agent,omitempty" doc:"agent that gets a grant of its own"`
	Team   bool   `json:"team,omitempty" doc:"for the whole team"`
	Back   string `json:"back,omitempty" doc:"page of the console to come back to"`
}

// SignInStart is a sign-in that was begun.
type SignInStart struct {
	URL string `json:"url" doc:"where to send the browser"`
}

// holderOf finds for whom a person supplies a credential, and whether they may.
func (d *Desk) holderOf(ctx context.Context, by team.Person, s team.Server, agent string, forTeam bool) (team.Holder, error) {
	keeper := by.Role == team.Admin || by.Role == team.Maintainer
	switch {
	case by.Role == team.Auditor:
		return team.Holder{}, &team.FieldError{Field: "server", Why: "cannot be given a credential by an auditor"}
	case agent != "":
		a, err := d.Agent(ctx, by, agent)
		if err != nil {
			return team.Holder{}, err
		}
		return team.Holder{Agent: a.ID}, nil
	case forTeam && !keeper:
		return team.Holder{}, &team.FieldError{Field: "team", Why: "needs an admin or a maintainer; leave it out to use your own"}
	case forTeam && (s.Per == team.PerPerson || s.Per == team.PerAgent):
		return team.Holder{}, &team.FieldError{Field: "team", Why: "is not possible: at this server each " + s.Per + " has a credential of its own"}
	case forTeam:
		return team.Holder{}, nil
	}
	return team.Holder{Person: by.ID}, nil
}

// BeginSignIn begins a sign-in at a server. browser is what only the browser
// that begins will show again. Errors are *signin.Refusal besides the usual.
func (d *Desk) BeginSignIn(ctx context.Context, by team.Person, try SignInTry, browser string) (SignInStart, error) {
	s, err := d.store.ServerByName(ctx, try.Server)
	if err != nil {
		return SignInStart{}, store.Explain(err, "server", try.Server)
	}
	if s.SignIn == nil || s.SignIn.Grant != team.GrantCode {
		return SignInStart{}, &team.ConflictError{Field: "server", Why: fmt.Sprintf("nobody signs in at server %q", s.Name), Hint: "it takes a stored secret, or none"}
	}
	h, err := d.holderOf(ctx, by, s, try.Agent, try.Team)
	if err != nil {
		return SignInStart{}, err
	}
	a, c, err := d.discover(ctx, s)
	if err != nil {
		return SignInStart{}, err
	}
	wanted, granted := strings.TrimSpace(c.Scope+" "+s.SignIn.Scope), ""
	d.grantMu.Lock()
	for _, g := range d.grants {
		if g.server.ID == s.ID && g.holder == h {
			g.mu.Lock()
			// A further scope is asked for together with those granted already.
			if granted = g.have.Scope; g.wanted != "" {
				wanted = strings.TrimSpace(wanted + " " + g.wanted)
			}
			g.mu.Unlock()
		}
	}
	d.grantMu.Unlock()
	scope := a.ScopesFor(wanted, granted)
	redirect := d.o.Address + CallbackPath
	id, err := d.identityAt(ctx, by, s, a, redirect, scope)
	if err != nil {
		return SignInStart{}, err
	}
	f, to, err := oauth.Begin(a, id, redirect, scope)
	if err != nil {
		return SignInStart{}, err
	}
	if !d.flows.put(pendingFlow{flow: f, server: s, holder: h, by: by, browser: token.Hash(browser), back: safeBack(try.Back), until: time.Now().Add(flowTime)}) {
		return SignInStart{}, &team.ConflictError{Why: "too many sign-ins are under way", Hint: "finish some, or wait ten minutes"}
	}
	return SignInStart{URL: to}, nil
}

// safeBack keeps only what is a page of the console.
func safeBack(back string) string {
	if !strings.HasPrefix(back, "/") || strings.HasPrefix(back, "//") || strings.ContainsAny(back, "\\\r\n") || len(back) > 300 {
		return ""
	}
	return back
}

// identityAt finds who Bouncer is at an authority: the client of the server's
// settings, else Bouncer's own document, else what it registered there before,
// else a new registration. Nothing of one issuer is shown to another.
func (d *Desk) identityAt(ctx context.Context, by team.Person, s team.Server, a oauth.Metadata, redirect, scope string) (oauth.ClientIdentity, error) {
	if s.SignIn.ClientID != "" {
		id := oauth.ClientIdentity{ID: s.SignIn.ClientID}
		for name, into := range map[string]*locker.Secret{s.SignIn.ClientSecret: &id.Secret, s.SignIn.SigningKey: &id.Key} {
			if name == "" {
				continue
			}
			v, err := d.open(ctx, name)
			if err != nil {
				return id, err
			}
			*into = v
		}
		return id, nil
	}
	if a.Documents && strings.HasPrefix(d.o.Address, "https://") {
		return oauth.ClientIdentity{ID: d.o.Address + DocumentPath, Method: "none"}, nil
	}
	sealed, err := d.store.Client(ctx, a.Issuer, redirect)
	if err == nil && !d.flows.lost(s.ID, by.ID) {
		raw, err := d.keys.Open(sealed.SecretID, locker.Box{KeyID: sealed.KeyID, DataKey: sealed.DataKey, Value: sealed.Value})
		var h holding
		if err == nil && json.Unmarshal([]byte(raw.Reveal()), &h) == nil {
			return h.identity(), nil
		}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return oauth.ClientIdentity{}, err
	}
	id, err := d.out.RegisterClient(ctx, a, redirect, scope)
	if err != nil {
		return id, err
	}
	h := hold(oauth.Metadata{}, id, oauth.Tokens{})
	d.learn(h.secrets()...)
	raw, err := json.Marshal(h)
	if err != nil {
		return id, err
	}
	key := team.NewID()
	box, err := d.seal(key, locker.NewSecret(string(raw)))
	if err != nil {
		return id, err
	}
	box.SecretID = key
	return id, d.store.Quietly(ctx, func(tx *store.Tx) error { return tx.PutClient(a.Issuer, redirect, box, time.Now()) })
}

// Returned is where a browser is sent after a sign-in.
type Returned struct {
	Path  string // page of the console
	Login string // a login that was opened, "" for none
}

// FinishSignIn takes up the answer of an authorization server. Whatever it is,
// it is looked at once, and a page of the console says what became of it.
func (d *Desk) FinishSignIn(ctx context.Context, answer url.Values, browser, from string) Returned {
	p, ok := d.flows.take(answer.Get("state"))
	if !ok {
		return Returned{Path: "/sign-ins?problem=" + d.flows.fail(team.Problem{What: "This sign-in is not known: it was used already, took longer than ten minutes, or Bouncer was restarted", Hint: "begin it again", Step: oauth.StepAuthorize})}
	}
	if p.server.ID == "" {
		return d.finishLogin(ctx, p, answer, browser, from)
	}
	page := strings.TrimPrefix(d.connectLink(p.server.Name, p.holder), d.o.Address)
	if strings.Contains(page, "?") {
		page += "&"
	} else {
		page += "?"
	}
	fail := func(pr team.Problem) Returned {
		d.o.Log.Warn("a sign-in failed", "server", p.server.Name, "person", p.by.Name, "step", pr.Step, "code", pr.Code, "why", pr.What)
		return Returned{Path: page + "problem=" + d.flows.fail(pr)}
	}
	shown := token.Hash(browser)
	if browser == "" || subtle.ConstantTimeCompare(shown[:], p.browser[:]) != 1 {
		return fail(team.Problem{What: "This sign-in was begun in another browser, so nothing was granted", Hint: "begin it again in this browser", Step: oauth.StepAuthorize})
	}
	t, err := d.out.ExchangeCode(ctx, p.flow, answer)
	if err == nil {
		err = d.keepSignIn(ctx, p, t)
	}
	if err != nil {
		var r *oauth.Error
		if errors.As(err, &r) && r.Code == "invalid_client" && p.server.SignIn.ClientID == "" {
			// It no longer knows what was registered; the next try registers anew.
			_ = d.store.Quietly(ctx, func(tx *store.Tx) error {
				return tx.DropClient(p.flow.Server.Issuer, p.flow.Redirect)
			})
		}
		return fail(problemOf(err))
	}
	if p.back != "" {
		return Returned{Path: p.back}
	}
	return Returned{Path: page + "done=1"}
}

// keepSignIn stores a grant and puts it in force.
func (d *Desk) keepSignIn(ctx context.Context, p pendingFlow, t oauth.Tokens) error {
	now := time.Now().UTC()
	h := hold(p.flow.Server, p.flow.Identity, t)
	d.learn(h.secrets()...)
	row, err := d.sealHolding(store.StoredSignIn{ID: team.NewID(), ServerID: p.server.ID, Holder: p.holder, Issuer: p.flow.Server.Issuer, Created: now}, h)
	if err != nil {
		return err
	}
	err = d.alter(ctx, p.by, "sign-in.make", p.server.Name, "", fmt.Sprintf("at %s, scope %q", row.Issuer, row.Scope), "sign-ins", func(tx *store.Tx) error { return tx.PutSignIn(row) })
	if err != nil {
		return store.Explain(err, "server", p.server.Name)
	}
	d.settle(ctx, p.server, p.holder)
	d.hub.Publish("servers")
	return nil
}

// settle waits a little until a new way to a server has been tried, so that the
// page that follows shows how it went.
func (d *Desk) settle(ctx context.Context, s team.Server, h team.Holder) {
	for range 50 {
		d.mu.Lock()
		k := d.keepers[keeperKey(s.ID, h)]
		d.mu.Unlock()
		if k == nil || k.keeper.Status().State != team.StateConnecting {
			return
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

// SignIns returns the sign-ins that a person may see: members their own, and
// what they still have to do, at the top.
func (d *Desk) SignIns(ctx context.Context, by team.Person) ([]team.SignIn, error) {
	servers, err := d.store.Servers(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := d.store.SignIns(ctx)
	if err != nil {
		return nil, err
	}
	people, err := d.store.People(ctx)
	if err != nil {
		return nil, err
	}
	agents, err := d.Agents(ctx, by)
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, p := range people {
		names[p.ID] = p.Name
	}
	visible := map[string]string{}
	owns := false
	for _, a := range agents {
		visible[a.ID] = a.Name
		owns = owns || a.Owner == by.Name
	}
	keeper := by.Role == team.Admin || by.Role == team.Maintainer
	todo, rest := []team.SignIn{}, []team.SignIn{}
	for _, s := range servers {
		if s.SignIn == nil {
			continue
		}
		mine, teams := false, false
		for _, row := range rows {
			if row.ServerID != s.ID {
				continue
			}
			v := d.describeSignIn(s, row)
			v.Person, v.Agent = names[row.Holder.Person], visible[row.Holder.Agent]
			switch {
			case row.Holder.Agent != "":
				if v.Agent == "" {
					continue
				}
				v.Mine = by.Role != team.Auditor
			case row.Holder.Person != "":
				v.Mine = row.Holder.Person == by.ID
				mine = mine || v.Mine
				if !v.Mine && by.Role == team.Member {
					continue
				}
			default:
				teams, v.Mine = true, keeper
			}
			if v.Mine && v.State != "valid" {
				todo = append(todo, v)
			} else {
				rest = append(rest, v)
			}
		}
		need := team.SignIn{Server: s.Name, Grant: s.SignIn.Grant, State: "needed", Mine: true}
		switch {
		case team.OfBouncer(s.SignIn):
			v := d.describeOwn(s)
			v.Mine = false
			rest = append(rest, v)
		case s.SignIn.Grant == team.GrantAssertion:
		case s.Per == team.PerPerson && !mine && by.Role != team.Auditor && owns:
			need.Person, need.Link = by.Name, d.connectLink(s.Name, team.Holder{Person: by.ID})
			todo = append(todo, need)
		case (s.Per == "" || s.Per == team.PerTeam) && !teams && keeper:
			need.Link = d.connectLink(s.Name, team.Holder{})
			todo = append(todo, need)
		}
	}
	return append(todo, rest...), nil
}

func (d *Desk) describeSignIn(s team.Server, row store.StoredSignIn) team.SignIn {
	created, refreshed := row.Created, row.Refreshed
	v := team.SignIn{ID: row.ID, Server: s.Name, State: "valid", Grant: s.SignIn.Grant, Issuer: row.Issuer, Scope: row.Scope, Note: row.Note, Expires: row.Expires, Created: &created, Refreshed: &refreshed, Link: d.connectLink(s.Name, row.Holder)}
	d.grantMu.Lock()
	g := d.grants[row.ID]
	d.grantMu.Unlock()
	if g != nil {
		g.mu.Lock()
		v.Renews = g.renews()
		if g.problem != nil && row.Ended == nil {
			v.State, v.Note = "failing", g.problem.Why
		}
		if g.spurned != "" && row.Ended == nil {
			v.State, v.Note = "ended", g.spurned
		}
		g.mu.Unlock()
	}
	if row.Ended != nil || (!v.Renews && v.Expires != nil && time.Now().After(*v.Expires)) {
		v.State = "ended"
		if v.Note == "" {
			v.Note = "the access token has expired, and it cannot be renewed"
		}
	}
	return v
}

// describeOwn is the access of Bouncer itself to a server.
func (d *Desk) describeOwn(s team.Server) team.SignIn {
	v := team.SignIn{Server: s.Name, State: "needed", Grant: s.SignIn.Grant, Renews: true, Scope: s.SignIn.Scope, Issuer: s.SignIn.Issuer}
	d.grantMu.Lock()
	defer d.grantMu.Unlock()
	for _, g := range d.grants {
		if g.server.ID != s.ID {
			continue
		}
		g.mu.Lock()
		if g.known {
			v.State, v.Issuer, v.Scope = "valid", g.have.Authority.Issuer, g.have.Scope
			at := g.gotten.UTC()
			v.Refreshed = &at
			if !g.have.Expires.IsZero() {
				exp := g.have.Expires
				v.Expires = &exp
			}
		}
		if g.problem != nil {
			v.State, v.Note = "failing", g.problem.Why
		}
		g.mu.Unlock()
	}
	return v
}

// RevokeSignIn ends a sign-in, here and at its authorization server.
func (d *Desk) RevokeSignIn(ctx context.Context, by team.Person, id string) error {
	rows, err := d.store.SignIns(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if !strings.EqualFold(row.ID, id) {
			continue
		}
		mine, err := d.ownsHolder(ctx, by, row.Holder)
		if err != nil {
			return err
		}
		if !mine {
			break
		}
		d.grantMu.Lock()
		g := d.grants[row.ID]
		d.grantMu.Unlock()
		if err := d.alter(ctx, by, "sign-in.revoke", row.ID, row.Issuer, "", "sign-ins", func(tx *store.Tx) error { return tx.RemoveSignIn(row.ID) }); err != nil {
			return store.Explain(err, "sign-in", id)
		}
		if g != nil {
			g.mu.Lock()
			h := g.have
			g.mu.Unlock()
			if err := d.out.RevokeToken(ctx, h.authority(), h.identity(), h.tokens()); err != nil {
				// It is gone here, which is what counts.
				d.o.Log.Warn("a grant could not be revoked at its authorization server", "server", g.server.Name, "error", err)
			}
		}
		return nil
	}
	return &team.NotFoundError{Kind: "sign-in", Name: id}
}

// ownsHolder reports whether a person may end what a holder has.
func (d *Desk) ownsHolder(ctx context.Context, by team.Person, h team.Holder) (bool, error) {
	keeper := by.Role == team.Admin || by.Role == team.Maintainer
	switch {
	case h.Person != "":
		return h.Person == by.ID || by.Role == team.Admin, nil
	case h.Agent == "" || keeper:
		return keeper, nil
	}
	mine, err := d.Agents(ctx, by)
	if err != nil {
		return false, err
	}
	for _, a := range mine {
		if a.ID == h.Agent {
			return by.Role != team.Auditor, nil
		}
	}
	return false, nil
}

// assert gets an access token for a person at a server's authority, vouched for
// by the identity provider.
func (d *Desk) assert(ctx context.Context, personID string, a oauth.Metadata, id oauth.ClientIdentity, scope string) (oauth.Tokens, error) {
	again := func(why string) (oauth.Tokens, error) {
		return oauth.Tokens{}, &oauth.Error{Step: oauth.StepToken, Code: "login_required", Why: why}
	}
	sealed, err := d.store.Identity(ctx, personID)
	if errors.Is(err, store.ErrNotFound) || d.o.Provider == nil {
		return again("this needs a sign-in to Bouncer through the identity provider")
	}
	if err != nil {
		return oauth.Tokens{}, err
	}
	raw, err := d.keys.Open(personID, locker.Box{KeyID: sealed.KeyID, DataKey: sealed.DataKey, Value: sealed.Value})
	if err != nil {
		return oauth.Tokens{}, err
	}
	var h holding
	if err := json.Unmarshal([]byte(raw.Reveal()), &h); err != nil {
		return oauth.Tokens{}, err
	}
	idp, err := d.out.Metadata(ctx, d.o.Provider.Issuer)
	if err != nil {
		return oauth.Tokens{}, err
	}
	at := d.o.Provider.identity()
	if _, ends := locker.Look(locker.NewSecret(h.IDToken)); !ends.IsZero() && time.Now().After(ends.Add(-lastMoment)) {
		if h.Refresh == "" {
			return again("the identity provider vouched for this person too long ago")
		}
		t, err := d.out.Refresh(ctx, idp, at, h.tokens())
		if err != nil {
			return t, err
		}
		if err := d.keepIdentity(ctx, personID, hold(idp, at, t)); err != nil {
			return t, err
		}
		h.IDToken = t.ID.Reveal()
	}
	return d.out.IdentityAssertion(ctx, idp, at, locker.NewSecret(h.IDToken), a, id, scope)
}

func (d *Desk) keepIdentity(ctx context.Context, personID string, h holding) error {
	h.Secret, h.Key = "", "" // of the service's settings
	d.learn(h.secrets()...)
	raw, err := json.Marshal(h)
	if err != nil {
		return err
	}
	box, err := d.seal(personID, locker.NewSecret(string(raw)))
	if err != nil {
		return err
	}
	return d.store.Quietly(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.SetIdentity(personID, box) })
}

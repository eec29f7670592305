package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/dial"
	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
	"bouncer/internal/token"
)

// Times around the renewal of tokens.
const (
	renewAhead  = time.Minute     // before a token expires it is renewed while calls go on
	lastMoment  = 5 * time.Second // a token this close to its end is not sent any more
	renewTime   = 30 * time.Second
	renewPause  = 10 * time.Second // after a failed renewal
	renewAnyway = 10 * time.Second // a token younger than this that is refused is not renewed
)

// holding is what is kept sealed of a grant.
type holding struct {
	Authority oauth.Metadata `json:"authority"`
	Resource  string         `json:"resource"`
	Scopes    []string       `json:"resourceScopes,omitempty"`
	Guessed   bool           `json:"guessed,omitempty"`
	ClientID  string         `json:"clientId"`
	Secret    string         `json:"clientSecret,omitempty"`
	Key       string         `json:"signingKey,omitempty"`
	Method    string         `json:"method,omitempty"`
	Access    string         `json:"access"`
	Refresh   string         `json:"refresh,omitempty"`
	IDToken   string         `json:"idToken,omitempty"`
	Expires   time.Time      `json:"expires"`
	Scope     string         `json:"scope,omitempty"`
	ProofKey  string         `json:"proofKey,omitempty"`
	Bound     bool           `json:"bound,omitempty"`
}

func hold(a oauth.Metadata, id oauth.ClientIdentity, t oauth.Tokens) holding {
	return holding{
		Authority: a, Resource: a.Resource, Scopes: a.ResourceScopes, Guessed: a.Guessed,
		ClientID: id.ID, Secret: id.Secret.Reveal(), Key: id.Key.Reveal(), Method: id.Method,
		Access: t.Access.Reveal(), Refresh: t.Refresh.Reveal(), IDToken: t.ID.Reveal(), Expires: t.Expires, Scope: t.Scope, ProofKey: id.Proof.Reveal(), Bound: t.Bound,
	}
}

func (h holding) authority() oauth.Metadata {
	a := h.Authority
	a.Resource, a.ResourceScopes, a.Guessed = h.Resource, h.Scopes, h.Guessed
	return a
}

func (h holding) identity() oauth.ClientIdentity {
	return oauth.ClientIdentity{ID: h.ClientID, Secret: locker.NewSecret(h.Secret), Key: locker.NewSecret(h.Key), Method: h.Method, Proof: locker.NewSecret(h.ProofKey)}
}

func (h holding) tokens() oauth.Tokens {
	return oauth.Tokens{Access: locker.NewSecret(h.Access), Refresh: locker.NewSecret(h.Refresh), ID: locker.NewSecret(h.IDToken), Expires: h.Expires, Scope: h.Scope, Bound: h.Bound}
}

// secrets are all values in it that must never be shown.
func (h holding) secrets() []locker.Secret {
	var out []locker.Secret
	for _, v := range []string{h.Secret, h.Key, h.ProofKey, h.Access, h.Refresh, h.IDToken} {
		if v != "" {
			out = append(out, locker.NewSecret(v))
		}
	}
	return out
}

// grant is a grant at a server in force. All calls of its holder share it. It is
// safe for concurrent use.
type grant struct {
	d      *Desk
	id     string // of the sign-in, or made up for credentials of Bouncer's own
	server team.Server
	holder team.Holder
	link   string // where its holder signs in
	used   *atomic.Int64
	// config is who Bouncer is there by the server's settings; its ID is "" when
	// Bouncer registers itself.
	config oauth.ClientIdentity
	proof  *value // the platform's assertion; nil for none

	mu      sync.Mutex
	row     store.StoredSignIn
	have    holding
	known   bool // have holds something
	gotten  time.Time
	busy    chan struct{} // closed when the renewal under way ends; nil while none is
	failed  time.Time     // of the last renewal
	problem *oauth.Error
	nonce   string // of the server, for proofs of possession
	wanted  string // scopes that the server asked for in vain
	// spurned is why the server no longer takes the token, though it looks valid.
	spurned string
}

// grantFor returns the grant of a holder, as it was put in force before or new.
func (d *Desk) grantFor(s team.Server, h team.Holder, r *register) (*grant, error) {
	way := s.SignIn
	var config oauth.ClientIdentity
	var mark strings.Builder
	if way.ClientID != "" {
		config.ID = way.ClientID
		for _, part := range []struct {
			name string
			into *locker.Secret
		}{{way.ClientSecret, &config.Secret}, {way.SigningKey, &config.Key}} {
			if part.name == "" {
				continue
			}
			v := r.values[part.name]
			if v == nil {
				return nil, fmt.Errorf("secret %s is not there", part.name)
			}
			got, err := v.now(d.ctx)
			if err != nil {
				return nil, err
			}
			*part.into = got
		}
		fmt.Fprintf(&mark, "%q%s%s", config.ID, config.Secret.Reveal(), config.Key.Reveal())
	}
	var proof *value
	if way.Assertion != "" {
		if proof = r.values[way.Assertion]; proof == nil {
			return nil, fmt.Errorf("secret %s is not there", way.Assertion)
		}
		mark.WriteString(proof.id)
	}
	row, stored := r.signins[s.ID+"/"+h.Key()]
	id := row.ID
	if !stored {
		sum := token.Hash(mark.String() + s.URL + fmt.Sprint(*way))
		id = fmt.Sprintf("%s/%s/%x", s.ID, h.Key(), sum[:8])
	}
	d.grantMu.Lock()
	defer d.grantMu.Unlock()
	if g := d.grants[id]; g != nil {
		g.mu.Lock()
		g.config, g.proof = config, proof
		if stored {
			g.row.Ended, g.row.Note = row.Ended, row.Note
		}
		g.mu.Unlock()
		return g, nil
	}
	g := &grant{d: d, id: id, server: s, holder: h, config: config, proof: proof, row: row, used: new(atomic.Int64), link: d.connectLink(s.Name, h)}
	if stored {
		raw, err := d.keys.Open(row.ID, locker.Box{KeyID: row.Sealed.KeyID, DataKey: row.Sealed.DataKey, Value: row.Sealed.Value})
		if err == nil {
			err = json.Unmarshal([]byte(raw.Reveal()), &g.have)
		}
		if err != nil {
			return nil, fmt.Errorf("the sign-in cannot be opened: %w", err)
		}
		g.known, g.gotten = true, row.Refreshed
		d.learn(g.have.secrets()...)
	}
	d.grants[id] = g
	return g, nil
}

// token returns an access token that holds for a while, as it goes into the
// header. One renewal serves all who wait.
func (g *grant) token(ctx context.Context) (locker.Secret, error) {
	for try := 0; ; try++ {
		g.mu.Lock()
		now := time.Now()
		if g.row.Ended != nil {
			err := g.ended(g.row.Note)
			g.mu.Unlock()
			return locker.Secret{}, err
		}
		left := time.Duration(1<<62 - 1)
		if !g.have.Expires.IsZero() {
			left = g.have.Expires.Sub(now)
		}
		ahead := renewAhead
		if life := g.have.Expires.Sub(g.gotten); life > 0 && life/5 < ahead {
			ahead = life / 5
		}
		usable := g.known && g.have.Access != "" && left > min(lastMoment, ahead)
		if usable && left > ahead {
			defer g.mu.Unlock()
			return g.header(now), nil
		}
		if g.busy == nil && g.renews() && (now.Sub(g.failed) > renewPause || (!usable && try == 0)) {
			g.startRenewal()
		}
		busy, problem := g.busy, g.problem
		if usable {
			defer g.mu.Unlock()
			return g.header(now), nil
		}
		g.mu.Unlock()
		switch {
		case busy == nil && problem != nil:
			return locker.Secret{}, g.failure(problem)
		case busy == nil || try > 3:
			return locker.Secret{}, g.ended("the access token has expired, and it cannot be renewed")
		}
		select {
		case <-busy:
		case <-ctx.Done():
			return locker.Secret{}, ctx.Err()
		}
	}
}

func (g *grant) header(now time.Time) locker.Secret {
	g.used.Store(now.UnixMilli())
	return locker.NewSecret(g.have.scheme() + g.have.Access)
}

// scheme is the word before the access token.
func (h holding) scheme() string {
	if h.Bound {
		return "DPoP "
	}
	return "Bearer "
}

// prover returns what makes proofs of possession for requests with an access
// token; nil where it is a bearer token.
func (g *grant) prover(shown locker.Secret) func(method, address string) (string, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.have.Bound {
		return nil
	}
	key, nonce, access := locker.NewSecret(g.have.ProofKey), g.nonce, locker.NewSecret(strings.TrimPrefix(shown.Reveal(), "DPoP "))
	return func(method, address string) (string, error) {
		return oauth.Proof(key, method, address, access, nonce)
	}
}

// renews reports whether fresh tokens can be had without anybody's doing; the
// caller holds the lock.
func (g *grant) renews() bool {
	return g.server.SignIn.Grant != team.GrantCode || g.have.Refresh != ""
}

// startRenewal begins a renewal; the caller holds the lock.
func (g *grant) startRenewal() {
	done := make(chan struct{})
	g.busy, g.problem = done, nil
	g.d.closing.Go(func() {
		defer close(done)
		// Whoever asked may leave: the answer belongs to all.
		ctx, stop := context.WithTimeout(g.d.ctx, renewTime)
		defer stop()
		err := g.renew(ctx)
		g.mu.Lock()
		defer g.mu.Unlock()
		g.busy = nil
		if err == nil {
			g.failed, g.problem = time.Time{}, nil
			return
		}
		g.failed = time.Now()
		if !errors.As(err, &g.problem) {
			g.problem = &oauth.Error{Step: oauth.StepToken, Why: "the token could not be renewed: " + err.Error()}
		}
	})
}

// renew gets fresh tokens and stores them before anybody is given them: a
// refresh token that was exchanged must not be lost.
func (g *grant) renew(ctx context.Context) error {
	g.mu.Lock()
	have, known, config, proof := g.have, g.known, g.config, g.proof
	g.mu.Unlock()
	d := g.d
	var a oauth.Metadata
	var id oauth.ClientIdentity
	var t oauth.Tokens
	var err error
	switch g.server.SignIn.Grant {
	case team.GrantCode:
		a, id = have.authority(), have.identity()
		if config.ID == id.ID && config.ID != "" {
			id.Secret, id.Key = config.Secret, config.Key // it may have been rotated
		}
		t, err = d.out.Refresh(ctx, a, id, have.tokens())
	case team.GrantClient:
		if a, err = g.authority(ctx, have, known); err == nil {
			id = config
			t, err = d.out.ClientCredentials(ctx, a, id, a.ScopesFor(g.scope(), ""))
		}
	case team.GrantWorkload:
		if a, err = g.authority(ctx, have, known); err == nil {
			id = config
			var vouched locker.Secret
			if vouched, err = proof.now(ctx); err == nil {
				t, err = d.out.JWTBearer(ctx, a, id, vouched, a.ScopesFor(g.scope(), ""))
			}
		}
	case team.GrantAssertion:
		if a, err = g.authority(ctx, have, known); err == nil {
			id = config
			t, err = d.assert(ctx, g.holder.Person, a, id, a.ScopesFor(g.scope(), ""))
		}
	}
	var refused *oauth.Error
	if errors.As(err, &refused) && refused.Final && g.row.ID != "" && g.server.SignIn.Grant == team.GrantCode {
		at := time.Now().UTC()
		werr := d.store.Quietly(context.WithoutCancel(ctx), func(tx *store.Tx) error {
			if refused.Code == "invalid_client" && config.ID == "" {
				// It no longer knows what was registered; the next sign-in registers anew.
				if err := tx.DropClient(a.Issuer, d.o.Address+CallbackPath); err != nil {
					return err
				}
			}
			return tx.EndSignIn(g.row.ID, refused.Why, at)
		})
		if werr != nil {
			return errors.Join(err, werr)
		}
		g.mu.Lock()
		g.row.Ended, g.row.Note = &at, refused.Why
		g.mu.Unlock()
		d.hub.Publish("sign-ins")
		d.o.Log.Warn("a sign-in has ended", "server", g.server.Name, "why", refused.Why)
	}
	if err != nil {
		return err
	}
	next := hold(a, id, t)
	d.learn(next.secrets()...)
	g.mu.Lock()
	row := g.row
	g.mu.Unlock()
	if row.ID != "" {
		row, err := d.sealHolding(row, next)
		if err != nil {
			return err
		}
		if err := d.store.Quietly(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.RenewSignIn(row) }); err != nil {
			return err
		}
		g.mu.Lock()
		g.row = row
		g.mu.Unlock()
	}
	g.mu.Lock()
	g.have, g.known, g.gotten, g.spurned = next, true, time.Now(), ""
	g.mu.Unlock()
	d.hub.Publish("sign-ins")
	return nil
}

func (d *Desk) sealHolding(row store.StoredSignIn, h holding) (store.StoredSignIn, error) {
	raw, err := json.Marshal(h)
	if err != nil {
		return row, err
	}
	box, err := d.seal(row.ID, locker.NewSecret(string(raw)))
	if err != nil {
		return row, err
	}
	row.Sealed, row.Scope, row.Note, row.Ended, row.Refreshed, row.Expires = box, h.Scope, "", nil, time.Now().UTC(), nil
	if !h.Expires.IsZero() {
		row.Expires = &h.Expires
	}
	return row, nil
}

// scope is what to ask for besides what the server says.
func (g *grant) scope() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return strings.TrimSpace(g.server.SignIn.Scope + " " + g.wanted)
}

// authority finds where tokens are issued, anew when that is not known.
func (g *grant) authority(ctx context.Context, have holding, known bool) (oauth.Metadata, error) {
	if known && have.Authority.Token != "" {
		return have.authority(), nil
	}
	a, _, err := g.d.discover(ctx, g.server)
	return a, err
}

// discover finds the authorization server of a server, with the challenge that
// it was found by.
func (d *Desk) discover(ctx context.Context, s team.Server) (oauth.Metadata, oauth.Challenge, error) {
	c := d.challengeOf(ctx, s)
	a, err := d.out.Discover(ctx, s.URL, c)
	if err == nil && s.SignIn != nil && s.SignIn.Issuer != "" && strings.TrimSuffix(a.Issuer, "/") != strings.TrimSuffix(s.SignIn.Issuer, "/") {
		err = &oauth.Error{Step: oauth.StepMetadata, Final: true, Why: fmt.Sprintf("the server now names the authorization server %s, but its client id is for %s; nothing was sent there", a.Issuer, s.SignIn.Issuer)}
	}
	return a, c, err
}

// challengeOf asks a server without any credential, for what its refusal says.
func (d *Desk) challengeOf(ctx context.Context, s team.Server) oauth.Challenge {
	c, _ := oauth.ReadChallenge(dial.Challenge(ctx, s, d.o.Link))
	return c
}

// refused is told that the server turned a request away. It reports whether
// another token can be had.
func (g *grant) refused(ctx context.Context, sent locker.Secret, status int, h http.Header) (bool, error) {
	c, _ := oauth.ReadChallenge(h)
	g.mu.Lock()
	if n := h.Get("DPoP-Nonce"); g.have.Bound && n != "" && n != g.nonce && len(n) < 1000 {
		g.nonce = n
		g.mu.Unlock()
		return true, nil // it wants its nonce in the proof
	}
	if g.have.scheme()+g.have.Access != sent.Reveal() {
		g.mu.Unlock()
		return true, nil // it was renewed meanwhile
	}
	if status == http.StatusForbidden {
		defer g.mu.Unlock()
		if c.Error != "insufficient_scope" {
			return false, nil
		}
		g.wanted = clipScope(c.Scope)
		return false, g.lacksScope(c.Scope)
	}
	if c.Scope != "" {
		g.wanted = clipScope(c.Scope)
	}
	if g.renews() && (g.busy != nil || time.Since(g.gotten) > renewAnyway) {
		if g.busy == nil {
			g.startRenewal()
		}
		busy := g.busy
		g.mu.Unlock()
		select {
		case <-busy:
		case <-ctx.Done():
			return false, ctx.Err()
		}
		g.mu.Lock()
		problem := g.problem
		g.mu.Unlock()
		if problem != nil {
			return false, g.failure(problem)
		}
		return true, nil
	}
	g.spurned = "the server no longer accepts its token"
	why := g.spurned
	g.mu.Unlock()
	g.d.hub.Publish("sign-ins")
	return false, g.ended(why)
}

func clipScope(s string) string {
	if len(s) > 1000 {
		return ""
	}
	return s
}

// whose names the holder of a grant in a sentence.
func (g *grant) whose() string {
	switch {
	case team.OfBouncer(g.server.SignIn):
		return "Bouncer's own access to it"
	case g.holder.Agent != "":
		return "the sign-in of this agent"
	case g.holder.Person != "":
		return "your sign-in"
	}
	return "the team's sign-in"
}

// ended explains that somebody has to sign in again.
func (g *grant) ended(why string) error {
	if why == "" {
		why = "it is no longer valid"
	}
	return link.NewFailure(diagnosis.Finding{
		Cause: diagnosis.SignInEnded, Message: fmt.Sprintf("%s has ended (%s)", g.whose(), why),
		Remedy: "sign in again at " + g.link, Actor: "whoever signed in",
	}, g.link, nil)
}

func (g *grant) lacksScope(scope string) error {
	return link.NewFailure(diagnosis.Finding{
		Cause: diagnosis.ScopeMissing, Message: fmt.Sprintf("%s lacks a scope that this needs: %s", g.whose(), orUnknown(clipScope(scope))),
		Remedy: "sign in again at " + g.link + " and agree to more", Actor: "whoever signed in",
	}, g.link, nil)
}

func orUnknown(s string) string {
	if s == "" {
		return "the server does not say which"
	}
	return s
}

// failure explains a renewal that failed.
func (g *grant) failure(r *oauth.Error) error {
	f := diagnosis.Finding{Cause: CauseOf(r), Message: r.Why, Remedy: r.Remedy(), Actor: "whoever registered the server"}
	at := ""
	if r.Final && g.server.SignIn.Grant == team.GrantCode {
		return g.ended(r.Why)
	}
	if g.server.SignIn.Grant == team.GrantAssertion {
		at = g.link
	}
	return link.NewFailure(f, at, r)
}

// CauseOf names the cause behind a refusal.
func CauseOf(r *oauth.Error) diagnosis.Cause {
	switch {
	case r.Code == "invalid_client" || r.Code == "unauthorized_client":
		return diagnosis.ClientWrong
	case r.Code == "invalid_grant":
		return diagnosis.SignInEnded
	case r.Code == "invalid_scope" || r.Code == "insufficient_scope":
		return diagnosis.ScopeMissing
	case r.Step == oauth.StepResource:
		return diagnosis.ResourceMetadata
	case r.Step == oauth.StepMetadata:
		return diagnosis.AuthorityMetadata
	case r.Step == oauth.StepRegister:
		return diagnosis.ClientRefused
	}
	return diagnosis.AuthorityFails
}

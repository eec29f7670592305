package credential

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
)

// Times around the renewal of tokens.
const (
	renewAhead  = time.Minute     // before a token expires it is renewed while calls go on
	lastMoment  = 5 * time.Second // a token this close to its end is not sent any more
	renewTime   = 30 * time.Second
	renewPause  = 10 * time.Second // after a failed renewal
	renewAnyway = 10 * time.Second // a token younger than this that is refused is not renewed
)

// Grant is a grant at a server in force. All calls of its holder share it. It is
// safe for concurrent use.
type Grant struct {
	set    *Set
	id     string // of the sign-in, or made up for credentials of Bouncer's own
	server team.Server
	holder team.Holder
	link   string // where its holder signs in
	used   atomic.Int64

	mu       sync.Mutex // guards what follows; never held while renewing
	client   client
	issuer   string   // authorization server that it is kept to; "" while there is none
	ranges   []string // private ranges that it may be in
	row      store.StoredSignIn
	have     oauth.Record
	loaded   bool // have holds something
	gotten   time.Time
	renewing chan struct{} // closed when the renewal under way ends; nil while none is
	failed   time.Time     // of the last renewal
	problem  *oauth.Error
	nonce    string // of the server, for proofs of possession
	// missingScope are scopes that the server asked for in vain.
	missingScope string
	// rejected is why the server no longer takes the token, though it looks valid.
	rejected string
}

// client is who Bouncer is at an authorization server by the server's settings.
// Its id is "" when Bouncer registers itself. The values are read when a token is
// renewed.
type client struct {
	id          string
	secret, key *Value
	assertion   *Value // the platform's; nil for none
}

func (c client) identity(ctx context.Context) (oauth.ClientIdentity, error) {
	out := oauth.ClientIdentity{ID: c.id}
	var err error
	if c.secret != nil {
		if out.Secret, err = c.secret.Now(ctx); err != nil {
			return out, err
		}
	}
	if c.key != nil {
		out.Key, err = c.key.Now(ctx)
	}
	return out, err
}

// fingerprint tells clients apart. It holds no secret.
func (c client) fingerprint() string {
	out := c.id
	for _, v := range []*Value{c.secret, c.key, c.assertion} {
		if v != nil {
			out += " " + v.fingerprint
		}
	}
	return out
}

// clientOf gathers who Bouncer is by a server's settings.
func (v *View) clientOf(w *team.SignInWay) (client, error) {
	c := client{id: w.ClientID}
	for _, part := range []struct {
		name string
		into **Value
	}{{w.ClientSecret, &c.secret}, {w.SigningKey, &c.key}, {w.Assertion, &c.assertion}} {
		if part.name == "" {
			continue
		}
		value, err := v.named(part.name)
		if err != nil {
			return c, err
		}
		*part.into = value
	}
	return c, nil
}

// Client is who Bouncer is at a server's authorization server by its settings; ok
// is false when it has to register itself.
func (v *View) Client(ctx context.Context, s team.Server) (id oauth.ClientIdentity, ok bool, err error) {
	c, err := v.clientOf(s.SignIn)
	if err != nil || c.id == "" {
		return id, false, err
	}
	id, err = c.identity(ctx)
	return id, true, err
}

// grantFor returns the grant of a holder, as it was put in force before or new.
func (v *View) grantFor(s team.Server, h team.Holder) (*Grant, error) {
	c, err := v.clientOf(s.SignIn)
	if err != nil {
		return nil, err
	}
	row, stored := v.signIns[rowKey(s.ID, h)]
	id := row.ID
	if !stored {
		sum := sha256.Sum256([]byte(c.fingerprint() + s.URL + fmt.Sprint(*s.SignIn)))
		id = fmt.Sprintf("%s/%s/%x", s.ID, h.Key(), sum[:8])
	}
	v.used[id] = true
	v.set.mu.Lock()
	g := v.set.grants[id]
	v.set.mu.Unlock()
	if g != nil {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.client, g.issuer, g.ranges = c, s.Issuer, s.PrivateRanges
		if stored {
			g.row.Ended, g.row.Note = row.Ended, row.Note
			if err := g.takeOver(row); err != nil {
				return nil, err
			}
		}
		return g, nil
	}
	if g, err = v.newGrant(s, h, id); err != nil {
		return nil, err
	}
	v.set.mu.Lock()
	defer v.set.mu.Unlock()
	v.set.grants[id] = g
	return g, nil
}

// newGrant opens a grant. With an empty id it holds nothing, and is for a trial.
func (v *View) newGrant(s team.Server, h team.Holder, id string) (*Grant, error) {
	c, err := v.clientOf(s.SignIn)
	if err != nil {
		return nil, err
	}
	g := &Grant{
		set: v.set, id: id, server: s, issuer: s.Issuer, ranges: s.PrivateRanges, holder: h, client: c,
		link: v.set.o.ConnectLink(s.Name, h, v.agents[h.Agent]),
	}
	row, stored := v.signIns[rowKey(s.ID, h)]
	if id == "" || !stored {
		return g, nil
	}
	if g.have, err = oauth.OpenRecord(v.set.o.Keys, row.Sealed); err != nil {
		return nil, fmt.Errorf("the sign-in cannot be opened: %w", err)
	}
	g.row, g.loaded, g.gotten = row, true, row.Refreshed
	v.set.o.Masks.Learn(g.have.Secrets()...)
	return g, nil
}

// token returns an access token that holds for a while, as it goes into the
// header. One renewal serves all who wait.
func (g *Grant) token(ctx context.Context) (locker.Secret, error) {
	for try := 0; ; try++ {
		g.mu.Lock()
		now := g.set.o.Now()
		if g.row.Ended != nil {
			err := g.ended(g.row.Note)
			g.mu.Unlock()
			return locker.Secret{}, err
		}
		left := time.Duration(1<<62 - 1)
		if !g.have.Expires.IsZero() {
			left = g.have.Expires.Sub(now)
		}
		ahead := ahead(g.have, g.gotten)
		usable := g.loaded && g.have.Access != "" && left > min(lastMoment, ahead)
		if usable && left > ahead {
			defer g.mu.Unlock()
			return g.header(now), nil
		}
		if g.renewing == nil && g.renews() && (now.Sub(g.failed) > renewPause || (!usable && try == 0)) {
			g.startRenewal()
		}
		renewing, problem := g.renewing, g.problem
		if usable {
			defer g.mu.Unlock()
			return g.header(now), nil
		}
		g.mu.Unlock()
		switch {
		case renewing == nil && problem != nil:
			return locker.Secret{}, g.failure(problem)
		case renewing == nil || try > 3:
			return locker.Secret{}, g.ended("the access token has expired, and it cannot be renewed")
		}
		select {
		case <-renewing:
		case <-ctx.Done():
			return locker.Secret{}, ctx.Err()
		}
	}
}

// ahead is how long before its end a token is renewed that was granted at a time.
func ahead(r oauth.Record, granted time.Time) time.Duration {
	if life := r.Expires.Sub(granted); life > 0 && life/5 < renewAhead {
		return life / 5
	}
	return renewAhead
}

// header is the access token with its scheme; the caller holds the lock.
func (g *Grant) header(now time.Time) locker.Secret {
	g.used.Store(now.UnixMilli())
	return locker.NewSecret(g.have.Scheme() + g.have.Access)
}

// prover returns what makes proofs of possession for requests with an access
// token; nil where it is a bearer token.
func (g *Grant) prover(shown locker.Secret) func(method, address string) (string, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.have.ProofsDue {
		return nil
	}
	key, nonce, access := locker.NewSecret(g.have.ProofKey), g.nonce, locker.NewSecret(strings.TrimPrefix(shown.Reveal(), g.have.Scheme()))
	return func(method, address string) (string, error) {
		return oauth.Proof(key, method, address, access, nonce)
	}
}

// renews reports whether fresh tokens can be had without anybody's doing; the
// caller holds the lock.
func (g *Grant) renews() bool {
	return g.server.SignIn.Grant != team.GrantCode || g.have.Refresh != ""
}

// startRenewal begins a renewal; the caller holds the lock.
func (g *Grant) startRenewal() {
	done := make(chan struct{})
	g.renewing, g.problem = done, nil
	g.set.working.Go(func() {
		defer close(done)
		// Whoever asked may leave: the answer belongs to all.
		ctx, stop := context.WithTimeout(g.set.ctx, renewTime)
		defer stop()
		err := g.renew(ctx)
		g.mu.Lock()
		defer g.mu.Unlock()
		g.renewing = nil
		if err == nil {
			g.failed, g.problem = time.Time{}, nil
			return
		}
		g.failed = g.set.o.Now()
		if !errors.As(err, &g.problem) {
			g.problem = &oauth.Error{Step: oauth.StepToken, Why: "the token could not be renewed: " + err.Error()}
		}
	})
}

// renew gets fresh tokens and stores them before anybody is given them: a
// refresh token that was exchanged must not be lost.
func (g *Grant) renew(ctx context.Context) error {
	g.mu.Lock()
	have, loaded, who, row := g.have, g.loaded, g.client, g.row
	g.mu.Unlock()
	shares := g.shares(row)
	if g.set.o.Lease != nil && (row.ID != "" || shares) {
		release, err := g.set.o.Lease(ctx, g.leaseName(row))
		if err != nil {
			return fmt.Errorf("wait for the right to renew it: %w", err)
		}
		defer release()
		if renewed, err := g.elsewhere(ctx, row, shares); err != nil || renewed {
			return err
		}
		g.mu.Lock()
		have, loaded, row = g.have, g.loaded, g.row
		g.mu.Unlock()
	}
	next, err := g.freshTokens(ctx, have, loaded, who)
	if err != nil {
		return g.endIfFinal(ctx, err, have, who, row)
	}
	g.set.o.Masks.Learn(next.Secrets()...)
	if row.ID != "" {
		if row, err = SealGrant(g.set.o.Keys, row, next); err != nil {
			return err
		}
	}
	issuer := next.Server.Issuer
	err = g.set.o.Store.Update(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if row.ID != "" {
			if err := tx.RenewSignIn(row); err != nil {
				return fmt.Errorf("store renewed tokens: %w", err)
			}
		}
		if g.id == "" {
			return nil // a trial, of which nothing may come
		}
		// It is kept to from its first success on.
		return tx.PinIssuer(g.server.ID, issuer)
	})
	if err != nil {
		return fmt.Errorf("store what was granted by %s: %w", issuer, err)
	}
	g.pin(issuer)
	if shares {
		if err := g.share(ctx, next); err != nil { // they ask for themselves then
			g.set.o.Log.Warn("the other nodes were not given what this one was granted", "server", g.server.Name, "error", err)
		}
	}
	g.mu.Lock()
	g.row, g.have, g.loaded, g.gotten, g.rejected = row, next, true, g.set.o.Now(), ""
	g.mu.Unlock()
	g.set.o.Events.Publish("sign-ins")
	return nil
}

// leaseName is what nodes renew one at a time by.
func (g *Grant) leaseName(row store.StoredSignIn) string {
	if row.ID != "" {
		return "grant." + row.ID
	}
	sum := sha256.Sum256([]byte(g.sharedName()))
	return fmt.Sprintf("grant.%x", sum[:16])
}

// elsewhere takes over what another node has renewed meanwhile, and reports whether there was
// something.
func (g *Grant) elsewhere(ctx context.Context, row store.StoredSignIn, shares bool) (bool, error) {
	if !shares {
		return g.renewedElsewhere(ctx, row.Refreshed)
	}
	taken, err := g.takeShared(ctx)
	if err != nil { // what another node has is no better than tokens of one's own
		g.set.o.Log.Warn("what another node was granted cannot be used", "server", g.server.Name, "error", err)
	}
	return taken, nil
}

// takeOver takes over tokens that another node was given meanwhile; the caller holds the lock.
func (g *Grant) takeOver(row store.StoredSignIn) error {
	if !g.loaded || !row.Refreshed.After(g.row.Refreshed) {
		return nil
	}
	have, err := oauth.OpenRecord(g.set.o.Keys, row.Sealed)
	if err != nil {
		return fmt.Errorf("the sign-in cannot be opened: %w", err)
	}
	g.row, g.have, g.gotten, g.rejected, g.problem = row, have, row.Refreshed, "", nil
	g.set.o.Masks.Learn(have.Secrets()...)
	return nil
}

// renewedElsewhere takes over what another node stored, and reports whether there is something
// newer than tokens of a time.
func (g *Grant) renewedElsewhere(ctx context.Context, than time.Time) (bool, error) {
	rows, err := g.set.o.Store.Credentials().SignIns(ctx)
	if err != nil {
		return false, fmt.Errorf("read the sign-ins: %w", err)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	at := slices.IndexFunc(rows, func(r store.StoredSignIn) bool { return r.ID == g.row.ID })
	if at < 0 {
		return false, nil
	}
	err = g.takeOver(rows[at])
	return g.row.Refreshed.After(than), err
}

// pinned is the server with the authorization server that it is kept to now.
func (g *Grant) pinned() team.Server {
	g.mu.Lock()
	defer g.mu.Unlock()
	s := g.server
	s.Issuer = g.issuer
	return s
}

// pin notes the authorization server that the grant is kept to.
func (g *Grant) pin(issuer string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.issuer == "" {
		g.issuer = issuer
	}
}

// inside returns a context in which the authorization server may be where an admin
// allowed it for this server.
func (g *Grant) inside(ctx context.Context) context.Context {
	g.mu.Lock()
	defer g.mu.Unlock()
	return Inside(ctx, team.Server{ServerOptions: team.ServerOptions{PrivateRanges: g.ranges}})
}

// freshTokens asks the authorization server in the way of the grant.
func (g *Grant) freshTokens(ctx context.Context, have oauth.Record, loaded bool, who client) (oauth.Record, error) {
	ctx = g.inside(ctx)
	configured, err := who.identity(ctx)
	if err != nil {
		return have, err
	}
	if g.server.SignIn.Grant == team.GrantCode {
		m, id := have.Metadata(), have.Client()
		if configured.ID == id.ID && configured.ID != "" {
			id.Secret, id.Key = configured.Secret, configured.Key // it may have been rotated
		}
		t, err := g.set.o.OAuth.Refresh(ctx, m, id, have.Tokens())
		return oauth.NewRecord(m, id, t), err
	}
	m := have.Metadata()
	if !loaded || m.Token == "" {
		if m, _, err = g.set.Discover(ctx, g.pinned()); err != nil {
			return have, err
		}
	}
	scope := m.ScopesFor(g.scope(), "")
	var t oauth.Tokens
	switch g.server.SignIn.Grant {
	case team.GrantClient:
		t, err = g.set.o.OAuth.ClientCredentials(ctx, m, configured, scope)
	case team.GrantWorkload:
		var vouched locker.Secret
		if vouched, err = who.assertion.Now(ctx); err == nil {
			t, err = g.set.o.OAuth.JWTBearer(ctx, m, configured, vouched, scope)
		}
	case team.GrantAssertion:
		t, err = g.set.o.Provider.Vouch(ctx, g.holder.Person, m, configured, scope)
	}
	return oauth.NewRecord(m, configured, t), err
}

// endIfFinal ends a sign-in whose renewal was refused for good, and returns why.
func (g *Grant) endIfFinal(ctx context.Context, why error, have oauth.Record, who client, row store.StoredSignIn) error {
	var refused *oauth.Error
	if !errors.As(why, &refused) || !refused.Final || row.ID == "" || g.server.SignIn.Grant != team.GrantCode {
		return why
	}
	at := time.Now().UTC()
	err := g.set.o.Store.Update(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if refused.Code == "invalid_client" && who.id == "" {
			// It no longer knows what was registered; the next sign-in registers anew.
			if err := tx.DropClient(have.Server.Issuer, g.set.o.Redirect); err != nil {
				return err
			}
		}
		return tx.EndSignIn(row.ID, refused.Why, at)
	})
	if err != nil {
		return errors.Join(why, fmt.Errorf("end a sign-in: %w", err))
	}
	g.mu.Lock()
	g.row.Ended, g.row.Note = &at, refused.Why
	g.mu.Unlock()
	g.set.o.Events.Publish("sign-ins")
	g.set.o.Log.Warn("a sign-in has ended", "server", g.server.Name, "why", refused.Why)
	return why
}

// SealGrant seals a grant into its row.
func SealGrant(keys *locker.Keys, row store.StoredSignIn, r oauth.Record) (store.StoredSignIn, error) {
	box, err := r.Seal(keys, row.ID)
	if err != nil {
		return row, err
	}
	at := time.Now().UTC().Truncate(time.Millisecond)
	if !at.After(row.Refreshed) { // by the clock of another node: what is newer is told by it
		at = row.Refreshed.Add(time.Millisecond)
	}
	row.Sealed, row.Scope, row.Note, row.Ended, row.Refreshed, row.Expires = box, r.Scope, "", nil, at, nil
	if !r.Expires.IsZero() {
		row.Expires = &r.Expires
	}
	return row, nil
}

// scope is what to ask for besides what the server says.
func (g *Grant) scope() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return strings.TrimSpace(g.server.SignIn.Scope + " " + g.missingScope)
}

// refused is told that the server turned a request away. It reports whether
// another token can be had.
func (g *Grant) refused(ctx context.Context, sent locker.Secret, status int, h http.Header) (bool, error) {
	c, _ := oauth.ReadChallenge(h)
	g.mu.Lock()
	if n := h.Get("DPoP-Nonce"); g.have.ProofsDue && n != "" && n != g.nonce && len(n) < 1000 {
		g.nonce = n
		g.mu.Unlock()
		return true, nil // it wants its nonce in the proof
	}
	if g.have.Scheme()+g.have.Access != sent.Reveal() {
		g.mu.Unlock()
		return true, nil // it was renewed meanwhile
	}
	if status == http.StatusForbidden {
		defer g.mu.Unlock()
		if c.Error != "insufficient_scope" {
			return false, nil
		}
		g.missingScope = clipScope(c.Scope)
		return false, g.lacksScope(c.Scope)
	}
	if c.Scope != "" {
		g.missingScope = clipScope(c.Scope)
	}
	if g.renews() && (g.renewing != nil || g.set.o.Now().Sub(g.gotten) > renewAnyway) {
		if g.renewing == nil {
			g.startRenewal()
		}
		renewing := g.renewing
		g.mu.Unlock()
		return g.afterRenewal(ctx, renewing)
	}
	g.rejected = "the server no longer accepts its token"
	why := g.rejected
	g.mu.Unlock()
	g.set.o.Events.Publish("sign-ins")
	return false, g.ended(why)
}

// afterRenewal waits for a renewal and reports how it went.
func (g *Grant) afterRenewal(ctx context.Context, renewing <-chan struct{}) (bool, error) {
	select {
	case <-renewing:
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

func clipScope(s string) string {
	if len(s) > 1000 {
		return ""
	}
	return s
}

// whose names the holder of a grant in a sentence.
func (g *Grant) whose() string {
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
func (g *Grant) ended(why string) error {
	if why == "" {
		why = "it is no longer valid"
	}
	return link.NewFailure(diagnosis.Finding{
		Cause: diagnosis.SignInEnded, Message: fmt.Sprintf("%s has ended (%s)", g.whose(), why),
		Remedy: "sign in again at " + g.link, Actor: "whoever signed in",
	}, g.link, nil)
}

func (g *Grant) lacksScope(scope string) error {
	if scope = clipScope(scope); scope == "" {
		scope = "the server does not say which"
	}
	return link.NewFailure(diagnosis.Finding{
		Cause: diagnosis.ScopeMissing, Message: fmt.Sprintf("%s lacks a scope that this needs: %s", g.whose(), scope),
		Remedy: "sign in again at " + g.link + " and agree to more", Actor: "whoever signed in",
	}, g.link, nil)
}

// failure explains a renewal that failed.
func (g *Grant) failure(e *oauth.Error) error {
	if e.Final && g.server.SignIn.Grant == team.GrantCode {
		return g.ended(e.Why)
	}
	at := ""
	if g.server.SignIn.Grant == team.GrantAssertion {
		at = g.link
	}
	return link.NewFailure(
		diagnosis.Finding{Cause: e.Cause(), Message: e.Why, Remedy: e.Remedy(), Actor: "whoever registered the server"},
		at,
		e,
	)
}

// State is what is known of a grant in force.
type State struct {
	Renews   bool
	Issuer   string
	Scope    string    // granted
	Missing  string    // scopes that the server asked for in vain
	Gotten   time.Time // when its tokens were gotten; zero for never
	Expires  time.Time // of the access token; zero when it does not say
	Failing  string    // why the last renewal failed
	Rejected string    // why the server no longer takes the token
}

// State returns what is known of the grant of a holder at a server; ok is false
// when there is none.
func (s *Set) State(serverID string, h team.Holder) (state State, ok bool) {
	g := s.grant(serverID, h)
	if g == nil {
		return state, false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	state = State{
		Renews:   g.renews(),
		Issuer:   g.have.Server.Issuer,
		Scope:    g.have.Scope,
		Missing:  g.missingScope,
		Expires:  g.have.Expires,
		Rejected: g.rejected,
	}
	if g.loaded {
		state.Gotten = g.gotten
	}
	if g.problem != nil {
		state.Failing = g.problem.Why
	}
	return state, true
}

func (s *Set) grant(serverID string, h team.Holder) *Grant {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, g := range s.grants {
		if g.server.ID == serverID && g.holder == h {
			return g
		}
	}
	return nil
}

// Revoke returns what ends a holder's grant at its authorization server, to be
// called when it has gone here; nil when there is no grant.
func (s *Set) Revoke(serverID string, h team.Holder) func(context.Context) error {
	g := s.grant(serverID, h)
	if g == nil {
		return nil
	}
	return func(ctx context.Context) error {
		g.mu.Lock()
		have := g.have
		g.mu.Unlock()
		return s.o.OAuth.RevokeToken(g.inside(ctx), have.Metadata(), have.Client(), have.Tokens())
	}
}

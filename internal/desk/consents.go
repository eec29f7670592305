package desk

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/store"
	"bouncer/internal/token"
)

// How long what agents are given lasts.
const (
	accessLife  = time.Hour
	refreshLife = 30 * 24 * time.Hour
	codeLife    = time.Minute
	doorTime    = 15 * time.Minute
	maxDoors    = 2_000
	maxRedirect = 20
)

// AuthError is an error of the authorization server towards a program (RFC 6749,
// sections 4.1.2.1 and 5.2).
type AuthError struct{ Code, Why string }

func (e *AuthError) Error() string { return e.Why }

// AppRegistration is how a program describes itself (RFC 7591).
type AppRegistration struct {
	Name      string   `json:"client_name"`
	Redirects []string `json:"redirect_uris"`
}

// app is a program that wants to speak for an agent.
type app struct {
	id, name  string
	redirects []string
	document  bool // it is described by a document at its id
}

// asked is a request of a program that waits for a person's consent.
type asked struct {
	app       app
	redirect  string
	state     string
	challenge string
	audience  string // path of the resource
	until     time.Time
}

// agreed is a consent that waits for its code to be exchanged.
type agreed struct {
	asked
	consent store.StoredConsent
	spent   bool
}

// doors are the sign-ins of agents under way. They are kept in memory: a program
// begins again after a restart.
type doors struct {
	mu     sync.Mutex
	asked  map[string]asked
	agreed map[[32]byte]agreed
	docs   map[string]cachedApp
}

type cachedApp struct {
	app   app
	until time.Time
}

func (d *doors) init() {
	d.asked, d.agreed, d.docs = map[string]asked{}, map[[32]byte]agreed{}, map[string]cachedApp{}
}

func (d *doors) sweep(now time.Time) {
	for k, v := range d.asked {
		if now.After(v.until) {
			delete(d.asked, k)
		}
	}
	for k, v := range d.agreed {
		if now.After(v.until) {
			delete(d.agreed, k)
		}
	}
	for k, v := range d.docs {
		if now.After(v.until) {
			delete(d.docs, k)
		}
	}
}

// checkRedirect checks an address that codes may be sent to.
func checkRedirect(raw string) error {
	bad := func(why string) error { return &AuthError{"invalid_redirect_uri", "a redirect address " + why} }
	u, err := url.Parse(raw)
	if err != nil || len(raw) > 1000 {
		return bad("is no address")
	}
	host := u.Hostname()
	switch {
	case u.Fragment != "" || u.User != nil || strings.ContainsAny(raw, "\r\n\\*"):
		return bad("has a fragment, a user name or a wildcard")
	case u.Scheme == "https" && host != "":
		return nil
	case u.Scheme == "http" && (host == "localhost" || host == "127.0.0.1" || host == "::1"):
		return nil
	case strings.Contains(u.Scheme, ".") && len(u.Scheme) > 3:
		return nil // a scheme of one application (RFC 8252, section 7.1)
	}
	return bad("must be https, http on the machine itself, or have a scheme of its own like example.parlour:/back")
}

// RegisterApp registers a program (RFC 7591). Errors are *AuthError and
// *WaitError besides those of the store.
func (d *Desk) RegisterApp(ctx context.Context, r AppRegistration, from string) (string, AppRegistration, error) {
	key := "register " + from
	if wait := d.brake.Wait(key); wait > 0 {
		return "", r, &team.ThrottledError{For: wait}
	}
	d.brake.Fail(key, 60) // each counts: nobody needs hundreds
	if len(r.Redirects) == 0 || len(r.Redirects) > maxRedirect {
		return "", r, &AuthError{"invalid_redirect_uri", fmt.Sprintf("redirect_uris must hold 1 to %d addresses", maxRedirect)}
	}
	for _, u := range r.Redirects {
		if err := checkRedirect(u); err != nil {
			return "", r, err
		}
	}
	r.Name = appName(r.Name, "a program without a name")
	a := store.App{ID: "app-" + strings.ToLower(team.NewID()), Name: r.Name, Redirects: r.Redirects, Created: time.Now()}
	return a.ID, r, d.store.Quietly(ctx, func(tx *store.Tx) error { return tx.AddApp(a) })
}

func appName(s, otherwise string) string {
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "")))
	if r := []rune(s); len(r) > 80 {
		s = string(r[:80])
	}
	if s == "" {
		return otherwise
	}
	return s
}

// app finds a program by its client id: one that registered itself, or one that
// is described by a document at that address.
func (d *Desk) app(ctx context.Context, id string) (app, error) {
	if !strings.HasPrefix(id, "https://") && !strings.HasPrefix(id, "http://") {
		a, err := d.store.App(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return app{}, &AuthError{"invalid_client", "no program is registered under this client id; it has to register again"}
		}
		return app{id: a.ID, name: a.Name, redirects: a.Redirects}, err
	}
	d.doors.mu.Lock()
	d.doors.sweep(time.Now())
	have, ok := d.doors.docs[id]
	full := len(d.doors.docs) >= maxDoors
	d.doors.mu.Unlock()
	if ok {
		return have.app, nil
	}
	bad := func(why string) (app, error) {
		return app{}, &AuthError{"invalid_client", "the document at the client id " + why}
	}
	u, err := url.Parse(id)
	if err != nil || strings.Trim(u.Path, "/") == "" || u.Fragment != "" || len(id) > 500 || full {
		return bad("cannot be one: it needs an https address with a path")
	}
	doc, err := d.out.ClientDocument(ctx, id)
	if err != nil {
		return bad("cannot be read: " + err.Error())
	}
	if doc.ID != id {
		return bad("names another client id")
	}
	if len(doc.Redirects) == 0 || len(doc.Redirects) > maxRedirect {
		return bad("has no redirect addresses")
	}
	for _, r := range doc.Redirects {
		if err := checkRedirect(r); err != nil {
			return bad("is not acceptable: " + err.Error())
		}
	}
	a := app{id: id, name: appName(doc.Name, u.Host), redirects: doc.Redirects, document: true}
	d.doors.mu.Lock()
	d.doors.docs[id] = cachedApp{a, time.Now().Add(10 * time.Minute)}
	d.doors.mu.Unlock()
	return a, nil
}

// audience reads a resource indicator (RFC 8707) as a path below the service.
func (d *Desk) audience(resource []string) (string, error) {
	if len(resource) == 0 || resource[0] == "" {
		return "/mcp", nil
	}
	path, ok := strings.CutPrefix(strings.TrimSuffix(resource[0], "/"), d.o.Address)
	rest, below := strings.CutPrefix(path, "/mcp/")
	if len(resource) > 1 || !ok || (path != "" && path != "/mcp" && (!below || team.CheckName("resource", rest) != nil)) {
		return "", &AuthError{"invalid_target", "the resource is not one of this service"}
	}
	if path == "" {
		path = "/mcp"
	}
	return path, nil
}

// AskConsent takes an authorization request of a program (RFC 6749 with RFC 7636
// and RFC 8707) and returns the page where a person decides. to is where the
// browser is sent with an error; when it is "" the error is shown instead, since
// the redirect address cannot be trusted.
func (d *Desk) AskConsent(ctx context.Context, q url.Values) (page, to string, err error) {
	a, err := d.app(ctx, q.Get("client_id"))
	if err != nil {
		return "", "", err
	}
	redirect := q.Get("redirect_uri")
	if redirect == "" && len(a.redirects) == 1 {
		redirect = a.redirects[0]
	}
	if !slices.Contains(a.redirects, redirect) {
		return "", "", &AuthError{"invalid_request", "the redirect address is not exactly one that the program registered"}
	}
	refuse := func(e *AuthError) (string, string, error) {
		return "", d.redirect(redirect, url.Values{"error": {e.Code}, "error_description": {e.Why}, "state": {q.Get("state")}}), e
	}
	audience, err := d.audience(q["resource"])
	var ae *AuthError
	switch {
	case errors.As(err, &ae):
		return refuse(ae)
	case q.Get("response_type") != "code":
		return refuse(&AuthError{"unsupported_response_type", "response_type must be code"})
	case q.Get("code_challenge_method") != "S256" || len(q.Get("code_challenge")) != 43:
		return refuse(&AuthError{"invalid_request", "a code_challenge with the method S256 is needed (PKCE)"})
	case len(q.Get("state")) > 4096:
		return refuse(&AuthError{"invalid_request", "the state is longer than 4096 bytes"})
	}
	id := strings.ToLower(team.NewID()) + token.New("")[:20]
	d.doors.mu.Lock()
	defer d.doors.mu.Unlock()
	d.doors.sweep(time.Now())
	if len(d.doors.asked) >= maxDoors {
		return refuse(&AuthError{"temporarily_unavailable", "too many sign-ins are under way"})
	}
	d.doors.asked[id] = asked{a, redirect, q.Get("state"), q.Get("code_challenge"), audience, time.Now().Add(doorTime)}
	return "/consent/" + id, "", nil
}

// redirect adds an answer to a redirect address, with who gives it (RFC 9207).
func (d *Desk) redirect(to string, answer url.Values) string {
	u, err := url.Parse(to)
	if err != nil {
		return to
	}
	q := u.Query()
	for k, v := range answer {
		if len(v) > 0 && v[0] != "" {
			q[k] = v
		}
	}
	q.Set("iss", d.o.Address)
	u.RawQuery = q.Encode()
	return u.String()
}

// ConsentRequest is what a person is asked to agree to.
type ConsentRequest struct {
	App      string         `json:"app" doc:"client id of the program"`
	AppName  string         `json:"appName" doc:"what the program calls itself; nobody has checked it"`
	Document bool           `json:"document" doc:"the program is described at its client id, so that the host of that address vouches for it"`
	Returns  string         `json:"returns" doc:"host that the answer goes to"`
	Resource string         `json:"resource"`
	Agents   []ConsentAgent `json:"agents" doc:"the agents it can be"`
}

// ConsentAgent is an agent that a program can be.
type ConsentAgent struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Owner   string   `json:"owner"`
	Tools   []string `json:"tools" doc:"what it can reach there"`
	Changes []string `json:"changes" doc:"those that destroy or alter, by what the servers say"`
}

// Consent tells a person what is asked.
func (d *Desk) Consent(ctx context.Context, by team.Person, id string) (ConsentRequest, error) {
	d.doors.mu.Lock()
	q, ok := d.doors.asked[id]
	d.doors.mu.Unlock()
	if !ok || time.Now().After(q.until) {
		return ConsentRequest{}, &team.NotFoundError{Kind: "sign-in of a program", Name: id}
	}
	u, err := url.Parse(q.redirect)
	if err != nil {
		return ConsentRequest{}, err
	}
	out := ConsentRequest{App: q.app.id, AppName: q.app.name, Document: q.app.document, Returns: u.Scheme + "://" + u.Host, Resource: d.o.Address + q.audience, Agents: []ConsentAgent{}}
	mine, err := d.consentable(ctx, by)
	if err != nil {
		return out, err
	}
	only := strings.TrimPrefix(strings.TrimPrefix(q.audience, "/mcp"), "/")
	for _, a := range mine {
		reach, err := d.Reach(ctx, by, a.Name)
		if err != nil {
			return out, err
		}
		c := ConsentAgent{Name: a.Name, Kind: a.Kind, Owner: a.Owner, Tools: []string{}, Changes: []string{}}
		for _, t := range reach {
			if !t.Admitted || (only != "" && t.Server != only) {
				continue
			}
			c.Tools = append(c.Tools, tools.Expose(t.Server, t.Tool))
			if t.Destructive || !t.ReadOnly {
				c.Changes = append(c.Changes, tools.Expose(t.Server, t.Tool))
			}
		}
		out.Agents = append(out.Agents, c)
	}
	return out, nil
}

// consentable are the agents that a person may lend a program: the own ones, and
// for admins and maintainers those of the team.
func (d *Desk) consentable(ctx context.Context, by team.Person) ([]team.Agent, error) {
	if by.Role == team.Auditor {
		return nil, nil
	}
	all, err := d.Agents(ctx, by)
	return slices.DeleteFunc(all, func(a team.Agent) bool { return a.Owner != by.Name && a.Owner != "" }), err
}

// Decision is what a person answers.
type Decision struct {
	Agent string `json:"agent,omitempty" doc:"which agent the program is; empty to decline"`
}

// Decide answers a program and returns where to send the browser.
func (d *Desk) Decide(ctx context.Context, by team.Person, id string, n Decision) (string, error) {
	var agent team.Agent
	if n.Agent != "" {
		mine, err := d.consentable(ctx, by)
		if err != nil {
			return "", err
		}
		at := slices.IndexFunc(mine, func(a team.Agent) bool { return a.Name == n.Agent })
		if at < 0 {
			return "", &team.FieldError{Field: "agent", Why: fmt.Sprintf("%q is none of yours; choose one of the list", n.Agent)}
		}
		agent = mine[at]
	}
	d.doors.mu.Lock()
	q, ok := d.doors.asked[id]
	delete(d.doors.asked, id)
	d.doors.mu.Unlock()
	if !ok || time.Now().After(q.until) {
		return "", &team.NotFoundError{Kind: "sign-in of a program", Name: id}
	}
	if n.Agent == "" {
		return d.redirect(q.redirect, url.Values{"error": {"access_denied"}, "error_description": {"the person declined"}, "state": {q.state}}), nil
	}
	code := token.New(token.CodePrefix)
	q.until = time.Now().Add(codeLife)
	c := store.StoredConsent{AgentID: agent.ID, PersonID: by.ID, Consent: team.Consent{
		ID: team.NewID(), App: q.app.id, AppName: q.app.name, Agent: agent.Name, Person: by.Name, Resource: d.o.Address + q.audience, Created: time.Now().UTC(),
	}}
	d.doors.mu.Lock()
	d.doors.agreed[token.Hash(code)] = agreed{asked: q, consent: c}
	d.doors.mu.Unlock()
	return d.redirect(q.redirect, url.Values{"code": {code}, "state": {q.state}}), nil
}

// IssuedTokens are what a program gets (RFC 6749, section 5.1).
type IssuedTokens struct {
	Access  string `json:"access_token"`
	Type    string `json:"token_type"`
	In      int    `json:"expires_in"`
	Refresh string `json:"refresh_token"`
	Scope   string `json:"scope,omitempty"`
}

// IssueTokens answers a token request of a program. Errors are *AuthError
// besides those of the store.
func (d *Desk) IssueTokens(ctx context.Context, q url.Values) (IssuedTokens, error) {
	switch q.Get("grant_type") {
	case "authorization_code":
		return d.exchange(ctx, q)
	case "refresh_token":
		return d.refresh(ctx, q)
	}
	return IssuedTokens{}, &AuthError{"unsupported_grant_type", "grant_type must be authorization_code or refresh_token"}
}

var errCode = &AuthError{"invalid_grant", "the code is not valid: it was used, took too long, or belongs to another program"}

func (d *Desk) exchange(ctx context.Context, q url.Values) (IssuedTokens, error) {
	key := token.Hash(q.Get("code"))
	d.doors.mu.Lock()
	g, ok := d.doors.agreed[key]
	if ok && !g.spent {
		spent := g
		spent.spent, spent.until = true, time.Now().Add(doorTime) // remembered, to notice a second use
		d.doors.agreed[key] = spent
	}
	d.doors.mu.Unlock()
	switch sum := sha256.Sum256([]byte(q.Get("code_verifier"))); {
	case !ok || (!g.spent && time.Now().After(g.until)):
		return IssuedTokens{}, errCode
	case g.spent:
		// Somebody else had it as well, so neither keeps what came of it.
		d.endConsent(ctx, g.consent.ID, "its code was used twice")
		return IssuedTokens{}, errCode
	case g.app.id != q.Get("client_id"), g.redirect != q.Get("redirect_uri") && q.Get("redirect_uri") != "":
		return IssuedTokens{}, errCode
	case len(q.Get("code_verifier")) < 43 || subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum[:])), []byte(g.challenge)) != 1:
		return IssuedTokens{}, &AuthError{"invalid_grant", "the code_verifier does not fit the code_challenge"}
	}
	if len(q["resource"]) > 0 {
		if path, err := d.audience(q["resource"]); err != nil || path != g.audience {
			return IssuedTokens{}, &AuthError{"invalid_target", "the resource is not the one that was agreed to"}
		}
	}
	c := g.consent
	by := team.Person{ID: c.PersonID, Name: c.Person}
	var out IssuedTokens
	err := d.alter(ctx, by, "consent.make", c.Agent, "", c.AppName+" at "+c.Resource, "agents", func(tx *store.Tx) (err error) {
		if err := tx.AddConsent(c); err != nil {
			return err
		}
		out, err = d.issue(tx, c, g.audience)
		return err
	})
	return out, err
}

// issue stores an access token and a refresh token of a consent.
func (d *Desk) issue(tx *store.Tx, c store.StoredConsent, audience string) (IssuedTokens, error) {
	now := time.Now().UTC()
	access, refresh := token.New(token.AccessPrefix), token.New(token.RefreshPrefix)
	sum := token.Hash(refresh)
	err := tx.ConsentUsed(c.ID, now)
	if err == nil {
		err = tx.AddPass(store.StoredPass{AgentID: c.AgentID, Hash: token.Hash(access), Consent: c.ID, Audience: audience, Pass: team.Pass{
			ID: team.NewID(), Kind: team.PassToken, Label: c.AppName, Hint: access[len(access)-4:], Created: now, Expires: now.Add(accessLife),
		}})
	}
	if err == nil {
		err = tx.AddRefresh(sum[:], store.Refresh{Consent: c.ID, Expires: now.Add(refreshLife)}, now)
	}
	return IssuedTokens{Access: access, Type: "Bearer", In: int(accessLife / time.Second), Refresh: refresh}, err
}

var errRefresh = &AuthError{"invalid_grant", "the refresh token is not valid; sign in again"}

func (d *Desk) refresh(ctx context.Context, q url.Values) (IssuedTokens, error) {
	sum := token.Hash(q.Get("refresh_token"))
	r, err := d.store.Refresh(ctx, sum[:])
	if errors.Is(err, store.ErrNotFound) {
		return IssuedTokens{}, errRefresh
	}
	if err != nil {
		return IssuedTokens{}, err
	}
	c, err := d.store.Consent(ctx, r.Consent)
	if err != nil {
		return IssuedTokens{}, err
	}
	now := time.Now().UTC()
	switch {
	case c.App != q.Get("client_id"), c.Revoked != nil, now.After(r.Expires):
		return IssuedTokens{}, errRefresh
	case r.Spent != nil:
		d.endConsent(ctx, c.ID, "a spent refresh token was used again")
		return IssuedTokens{}, errRefresh
	}
	audience := strings.TrimPrefix(c.Resource, d.o.Address)
	if len(q["resource"]) > 0 {
		if path, err := d.audience(q["resource"]); err != nil || path != audience {
			return IssuedTokens{}, &AuthError{"invalid_target", "the resource is not the one that was agreed to"}
		}
	}
	var out IssuedTokens
	err = d.store.Quietly(ctx, func(tx *store.Tx) (err error) {
		if err := tx.SpendRefresh(sum[:], now); err != nil {
			return err
		}
		out, err = d.issue(tx, c, audience)
		return err
	})
	if errors.Is(err, store.ErrNotFound) { // another request was quicker
		d.endConsent(ctx, c.ID, "a spent refresh token was used again")
		return IssuedTokens{}, errRefresh
	}
	if err != nil {
		return IssuedTokens{}, err
	}
	return out, d.publish(context.WithoutCancel(ctx))
}

// endConsent revokes a consent that was misused.
func (d *Desk) endConsent(ctx context.Context, id, why string) {
	c, err := d.store.Consent(ctx, id)
	if err != nil || c.Revoked != nil {
		return
	}
	d.o.Log.Warn("a program's sign-in was ended", "program", c.AppName, "agent", c.Agent, "why", why)
	by := team.Person{ID: c.PersonID, Name: c.Person}
	err = d.alter(ctx, by, "consent.end", c.Agent, c.AppName, why, "agents", func(tx *store.Tx) error { return tx.RevokeConsent(id, why, time.Now()) })
	if err != nil {
		d.o.Log.Error("a program's sign-in could not be ended", "error", err)
	}
}

// RevokeToken ends a token that a program gives back (RFC 7009); with a refresh
// token goes the whole consent. Unknown tokens are nobody's business.
func (d *Desk) RevokeToken(ctx context.Context, pass, clientID string) error {
	sum := token.Hash(pass)
	consent := ""
	if r, err := d.store.Refresh(ctx, sum[:]); err == nil {
		consent = r.Consent
	} else {
		passes, err := d.store.Passes(ctx)
		if err != nil {
			return err
		}
		for _, p := range passes {
			if p.Hash == sum {
				consent = p.Consent
			}
		}
	}
	if consent == "" {
		return nil
	}
	c, err := d.store.Consent(ctx, consent)
	if err != nil || c.App != clientID {
		return nil
	}
	d.endConsent(ctx, c.ID, "the program signed out")
	return nil
}

// Consents returns the programs that a person may see speaking for agents.
func (d *Desk) Consents(ctx context.Context, by team.Person) ([]team.Consent, error) {
	all, err := d.store.Consents(ctx)
	out := []team.Consent{}
	for _, c := range all {
		if by.Role != team.Member || c.Person == by.Name {
			out = append(out, c.Consent)
		}
	}
	return out, err
}

// RevokeConsent ends what a program may do for an agent; its next request is
// refused.
func (d *Desk) RevokeConsent(ctx context.Context, by team.Person, id string) error {
	c, err := d.store.Consent(ctx, strings.ToUpper(id))
	if err == nil && by.Role == team.Member && c.Person != by.Name {
		err = store.ErrNotFound
	}
	if err == nil {
		err = d.alter(ctx, by, "consent.revoke", c.Agent, c.AppName, "", "agents", func(tx *store.Tx) error { return tx.RevokeConsent(c.ID, "", time.Now()) })
	}
	return store.Explain(err, "consent", id)
}

// Package authserver is Bouncer as an authorization server towards agents: a
// program registers itself or is described by a document, asks for a person's
// consent to be one of their agents, and is given tokens, which are passes with an
// audience and a short life (RFC 6749 with PKCE, RFC 7591, RFC 8707, RFC 9207).
package authserver

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/oauth"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/token"
)

// Options configure a Service; all are required.
type Options struct {
	Address string // base URL under which agents reach the service
	Log     *slog.Logger
}

// consentOf is what a person agrees to.
type consentOf = store.StoredConsent

// Service lets programs sign in. It is safe for concurrent use.
type Service struct {
	o        Options
	store    *store.Store
	oauth    *oauth.Client
	limiter  *throttle.Limiter
	registry *registry.Registry
	agents   *agents.Service
	policy   *policy.Service
	requests *signer
	decided  decided
	codes    codes
	docs     documents
}

// New returns the service.
func New(
	s *store.Store,
	client *oauth.Client,
	limiter *throttle.Limiter,
	r *registry.Registry,
	a *agents.Service,
	p *policy.Service,
	o Options,
) *Service {
	return &Service{o: o, store: s, oauth: client, limiter: limiter, registry: r, agents: a, policy: p, requests: newSigner()}
}

// AuthError is an error of the authorization server towards a program (RFC 6749,
// sections 4.1.2.1 and 5.2).
type AuthError struct{ Code, Why string }

func (e *AuthError) Error() string { return e.Why }

// AppRegistration is how a program describes itself (RFC 7591).
type AppRegistration struct {
	Name      string   `json:"client_name"`
	Redirects []string `json:"redirect_uris"`
}

// How long what agents are given lasts.
const (
	accessLife  = time.Hour
	refreshLife = 30 * 24 * time.Hour
	codeLife    = time.Minute
	requestTime = 15 * time.Minute
	maxRedirect = 20
	maxState    = 2048 // bytes
)

// program is a program that wants to speak for an agent.
type program struct {
	id, name  string
	redirects []string
	document  bool // it is described by a document at its id
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
// *team.ThrottledError besides those of the store.
func (svc *Service) RegisterApp(ctx context.Context, r AppRegistration, from string) (string, AppRegistration, error) {
	if wait := svc.limiter.Spend(throttle.Often("register", from, 60)); wait > 0 { // nobody needs hundreds
		return "", r, &team.ThrottledError{For: wait, Why: "too many programs are registered from this address"}
	}
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
	return a.ID, r, svc.store.Update(ctx, func(tx *store.Tx) error { return tx.AddApp(a) })
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

// program finds a program by its client id: one that registered itself, or one that
// is described by a document at that address. from is the address that asks: a
// document is looked up for strangers, so only so often, and never where others
// cannot reach.
func (svc *Service) program(ctx context.Context, id, from string) (program, error) {
	if !strings.HasPrefix(id, "https://") && !strings.HasPrefix(id, "http://") {
		a, err := svc.store.Credentials().App(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return program{}, &AuthError{"invalid_client", "no program is registered under this client id; it has to register again"}
		}
		return program{id: a.ID, name: a.Name, redirects: a.Redirects}, err
	}
	if have, ok := svc.docs.get(id, time.Now()); ok {
		return have, nil
	}
	bad := func(why string) (program, error) {
		return program{}, &AuthError{"invalid_client", "the document at the client id " + why}
	}
	u, err := url.Parse(id)
	if err != nil || strings.Trim(u.Path, "/") == "" || u.Fragment != "" || len(id) > 500 {
		return bad("cannot be one: it needs an https address with a path")
	}
	if wait := svc.limiter.Spend(throttle.Often("client document", from, 30)); wait > 0 {
		return program{}, &team.ThrottledError{For: wait, Why: "too many documents of programs are asked for from this address"}
	}
	doc, err := svc.oauth.ClientDocument(ctx, id)
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
	a := program{id: id, name: appName(doc.Name, u.Host), redirects: doc.Redirects, document: true}
	svc.docs.put(id, a, time.Now().Add(10*time.Minute))
	return a, nil
}

// audience reads a resource indicator (RFC 8707) as a path below the service.
func (svc *Service) audience(resource []string) (string, error) {
	if len(resource) == 0 || resource[0] == "" {
		return "/mcp", nil
	}
	path, ok := strings.CutPrefix(strings.TrimSuffix(resource[0], "/"), svc.o.Address)
	rest, below := strings.CutPrefix(path, "/mcp/")
	if len(resource) > 1 || !ok || (path != "" && path != "/mcp" && (!below || team.CheckName("resource", rest) != nil)) {
		return "", &AuthError{"invalid_target", "the resource is not one of this service"}
	}
	if path == "" {
		path = "/mcp"
	}
	return path, nil
}

// Authorize takes an authorization request of a program (RFC 6749 with RFC 7636
// and RFC 8707) and returns the page where a person decides. from is the address of
// the browser. What is wrong is shown here: anybody can register a program, so that
// nobody is sent to an address of its choice before a person has decided (RFC 9700,
// section 4.11). Errors are *AuthError and *team.ThrottledError.
func (svc *Service) Authorize(ctx context.Context, q url.Values, from string) (page string, err error) {
	a, err := svc.program(ctx, q.Get("client_id"), from)
	if err != nil {
		return "", err
	}
	redirect := q.Get("redirect_uri")
	if redirect == "" && len(a.redirects) == 1 {
		redirect = a.redirects[0]
	}
	if !slices.Contains(a.redirects, redirect) {
		return "", &AuthError{"invalid_request", "the redirect address is not exactly one that the program registered"}
	}
	audience, err := svc.audience(q["resource"])
	switch {
	case err != nil:
		return "", err
	case q.Get("response_type") != "code":
		return "", &AuthError{"unsupported_response_type", "response_type must be code"}
	case q.Get("code_challenge_method") != "S256" || len(q.Get("code_challenge")) != 43:
		return "", &AuthError{"invalid_request", "a code_challenge with the method S256 is needed (PKCE)"}
	case len(q.Get("state")) > maxState:
		return "", &AuthError{"invalid_request", fmt.Sprintf("the state is longer than %d bytes", maxState)}
	}
	return "/consent/" + svc.requests.sign(authorizationRequest{
		program: a, redirect: redirect, state: q.Get("state"), challenge: q.Get("code_challenge"), audience: audience,
		until: time.Now().Add(requestTime),
	}), nil
}

// redirect adds an answer to a redirect address, with who gives it (RFC 9207).
func (svc *Service) redirect(to string, answer url.Values) string {
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
	q.Set("iss", svc.o.Address)
	u.RawQuery = q.Encode()
	return u.String()
}

// Consent tells a person what is asked.
func (svc *Service) Consent(ctx context.Context, by team.Person, id string) (apitype.ConsentRequest, error) {
	q, _, err := svc.requests.read(id, time.Now())
	if err != nil {
		return apitype.ConsentRequest{}, &team.NotFoundError{Kind: "sign-in of a program"}
	}
	u, err := url.Parse(q.redirect)
	if err != nil {
		return apitype.ConsentRequest{}, err
	}
	out := apitype.ConsentRequest{
		App:      q.program.id,
		AppName:  q.program.name,
		Document: q.program.document,
		Returns:  u.Scheme + "://" + u.Host,
		Resource: svc.o.Address + q.audience,
		Agents:   []apitype.ConsentAgent{},
	}
	mine, err := svc.consentable(ctx, by)
	if err != nil {
		return out, err
	}
	only := strings.TrimPrefix(strings.TrimPrefix(q.audience, "/mcp"), "/")
	for _, a := range mine {
		reach, err := svc.policy.Reach(ctx, by, a.Name)
		if err != nil {
			return out, err
		}
		c := apitype.ConsentAgent{Name: a.Name, Kind: a.Kind, Owner: a.Owner, Tools: []string{}, Changes: []string{}}
		for _, t := range reach {
			if !t.Admitted || (only != "" && t.Server != only) {
				continue
			}
			c.Tools = append(c.Tools, t.Exposed)
			if t.Destructive || !t.ReadOnly {
				c.Changes = append(c.Changes, t.Exposed)
			}
		}
		out.Agents = append(out.Agents, c)
	}
	return out, nil
}

// consentable are the agents that a person may lend a program: the own ones, and
// for admins and maintainers those of the team.
func (svc *Service) consentable(ctx context.Context, by team.Person) ([]team.Agent, error) {
	all, err := svc.agents.Agents(ctx, by)
	return slices.DeleteFunc(all, func(a team.Agent) bool { return !access.May(by, access.SpeakForAgents, a.Owner) }), err
}

// Decide answers a program and returns where to send the browser.
func (svc *Service) Decide(ctx context.Context, by team.Person, id string, n apitype.Decision) (string, error) {
	var agent team.Agent
	if n.Agent != "" {
		mine, err := svc.consentable(ctx, by)
		if err != nil {
			return "", err
		}
		at := slices.IndexFunc(mine, func(a team.Agent) bool { return a.Name == n.Agent })
		if at < 0 {
			return "", &team.FieldError{Field: "agent", Why: fmt.Sprintf("%q is none of yours; choose one of the list", n.Agent)}
		}
		agent = mine[at]
	}
	now := time.Now()
	q, serial, err := svc.requests.read(id, now)
	if err != nil || !svc.decided.once(serial, by.ID, q.until, now) {
		return "", &team.NotFoundError{Kind: "sign-in of a program"}
	}
	if n.Agent == "" {
		return svc.redirect(
			q.redirect,
			url.Values{"error": {"access_denied"}, "error_description": {"the person declined"}, "state": {q.state}},
		), nil
	}
	code := token.New(token.CodePrefix)
	q.until = time.Now().Add(codeLife)
	c := consentOf{AgentID: agent.ID, PersonID: by.ID, Consent: team.Consent{
		ID:       team.NewID(),
		App:      q.program.id,
		AppName:  q.program.name,
		Agent:    agent.Name,
		Person:   by.Name,
		Resource: svc.o.Address + q.audience,
		Created:  time.Now().UTC(),
	}}
	svc.codes.put(token.Hash(code), issuedCode{authorizationRequest: q, consent: c}, now)
	return svc.redirect(q.redirect, url.Values{"code": {code}, "state": {q.state}}), nil
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
func (svc *Service) IssueTokens(ctx context.Context, q url.Values) (IssuedTokens, error) {
	switch q.Get("grant_type") {
	case "authorization_code":
		return svc.exchangeCode(ctx, q)
	case "refresh_token":
		return svc.refresh(ctx, q)
	}
	return IssuedTokens{}, &AuthError{"unsupported_grant_type", "grant_type must be authorization_code or refresh_token"}
}

var errCode = &AuthError{"invalid_grant", "the code is not valid: it was used, took too long, or belongs to another program"}

func (svc *Service) exchangeCode(ctx context.Context, q url.Values) (IssuedTokens, error) {
	g, ok := svc.codes.take(token.Hash(q.Get("code")), time.Now())
	sum := sha256.Sum256([]byte(q.Get("code_verifier")))
	proof := base64.RawURLEncoding.EncodeToString(sum[:])
	switch {
	case !ok || (!g.spent && time.Now().After(g.until)):
		return IssuedTokens{}, errCode
	case g.spent:
		// Somebody else had it as well, so neither keeps what came of it.
		svc.endConsent(ctx, g.consent.ID, "its code was used twice")
		return IssuedTokens{}, errCode
	case g.program.id != q.Get("client_id"), g.redirect != q.Get("redirect_uri") && q.Get("redirect_uri") != "":
		return IssuedTokens{}, errCode
	case len(q.Get("code_verifier")) < 43 || subtle.ConstantTimeCompare([]byte(proof), []byte(g.challenge)) != 1:
		return IssuedTokens{}, &AuthError{"invalid_grant", "the code_verifier does not fit the code_challenge"}
	}
	if len(q["resource"]) > 0 {
		if path, err := svc.audience(q["resource"]); err != nil || path != g.audience {
			return IssuedTokens{}, &AuthError{"invalid_target", "the resource is not the one that was agreed to"}
		}
	}
	c := g.consent
	if err := svc.stillAgreed(ctx, c); err != nil {
		return IssuedTokens{}, err
	}
	by := team.Person{ID: c.PersonID, Name: c.Person}
	var out IssuedTokens
	err := svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "consent.make", Subject: c.Agent, After: c.AppName + " at " + c.Resource, Topics: []string{"agents"}},
		func(tx *store.Tx) (err error) {
			if err := tx.AddConsent(c); err != nil {
				return err
			}
			out, err = svc.issue(tx, c, g.audience)
			return err
		},
	)
	return out, err
}

// stillAgreed reports whether a person may still lend an agent, as when they agreed:
// the agent may have another owner by now, the person another role.
func (svc *Service) stillAgreed(ctx context.Context, c consentOf) error {
	everybody, err := svc.store.People(ctx)
	if err != nil {
		return fmt.Errorf("read the people: %w", err)
	}
	at := slices.IndexFunc(everybody, func(p team.Person) bool { return p.ID == c.PersonID })
	if at < 0 {
		return errCode
	}
	mine, err := svc.consentable(ctx, everybody[at])
	if err != nil {
		return fmt.Errorf("read the agents of %s: %w", c.Person, err)
	}
	if !slices.ContainsFunc(mine, func(a team.Agent) bool { return a.ID == c.AgentID }) {
		return errCode
	}
	return nil
}

// issue stores an access token and a refresh token of a consent.
func (svc *Service) issue(tx *store.Tx, c consentOf, audience string) (IssuedTokens, error) {
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

func (svc *Service) refresh(ctx context.Context, q url.Values) (IssuedTokens, error) {
	sum := token.Hash(q.Get("refresh_token"))
	r, err := svc.store.Credentials().Refresh(ctx, sum[:])
	if errors.Is(err, store.ErrNotFound) {
		return IssuedTokens{}, errRefresh
	}
	if err != nil {
		return IssuedTokens{}, err
	}
	c, err := svc.store.Credentials().Consent(ctx, r.Consent)
	if err != nil {
		return IssuedTokens{}, err
	}
	now := time.Now().UTC()
	switch {
	case c.App != q.Get("client_id"), c.Revoked != nil, now.After(r.Expires):
		return IssuedTokens{}, errRefresh
	case r.Spent != nil:
		svc.endConsent(ctx, c.ID, "a spent refresh token was used again")
		return IssuedTokens{}, errRefresh
	}
	audience := strings.TrimPrefix(c.Resource, svc.o.Address)
	if len(q["resource"]) > 0 {
		if path, err := svc.audience(q["resource"]); err != nil || path != audience {
			return IssuedTokens{}, &AuthError{"invalid_target", "the resource is not the one that was agreed to"}
		}
	}
	var out IssuedTokens
	err = svc.store.Update(ctx, func(tx *store.Tx) (err error) {
		if err := tx.SpendRefresh(sum[:], now); err != nil {
			return err
		}
		out, err = svc.issue(tx, c, audience)
		return err
	})
	if errors.Is(err, store.ErrNotFound) { // another request was quicker
		svc.endConsent(ctx, c.ID, "a spent refresh token was used again")
		return IssuedTokens{}, errRefresh
	}
	if err != nil {
		return IssuedTokens{}, err
	}
	return out, svc.registry.Refresh()
}

// endConsent revokes a consent that was misused.
func (svc *Service) endConsent(ctx context.Context, id, why string) {
	c, err := svc.store.Credentials().Consent(ctx, id)
	if err != nil || c.Revoked != nil {
		return
	}
	svc.o.Log.Warn("a program's sign-in was ended", "program", c.AppName, "agent", c.Agent, "why", why)
	by := team.Person{ID: c.PersonID, Name: c.Person}
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "consent.end", Subject: c.Agent, Before: c.AppName, After: why, Topics: []string{"agents"}},
		func(tx *store.Tx) error { return tx.RevokeConsent(id, why, time.Now()) },
	)
	if err != nil {
		svc.o.Log.Error("a program's sign-in could not be ended", "error", err)
	}
}

// RevokeToken ends a token that a program gives back (RFC 7009); with a refresh
// token goes the whole consent. Unknown tokens are nobody's business.
func (svc *Service) RevokeToken(ctx context.Context, pass, clientID string) error {
	sum := token.Hash(pass)
	consent := ""
	r, err := svc.store.Credentials().Refresh(ctx, sum[:])
	switch {
	case err == nil:
		consent = r.Consent
	case !errors.Is(err, store.ErrNotFound):
		return err
	default:
		passes, err := svc.store.Passes(ctx)
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
	c, err := svc.store.Credentials().Consent(ctx, consent)
	if err != nil {
		return err
	}
	if c.App != clientID {
		return nil // a token that is not this program's, which it need not be told
	}
	svc.endConsent(ctx, c.ID, "the program signed out")
	return nil
}

// Consents returns the programs that a person may see speaking for agents.
func (svc *Service) Consents(ctx context.Context, by team.Person) ([]team.Consent, error) {
	all, err := svc.store.Credentials().Consents(ctx)
	out := []team.Consent{}
	for _, c := range all {
		if access.May(by, access.SeeConsents, c.Person) {
			out = append(out, c.Consent)
		}
	}
	return out, err
}

// RevokeConsent ends what a program may do for an agent; its next request is
// refused.
func (svc *Service) RevokeConsent(ctx context.Context, by team.Person, id string) error {
	c, err := svc.store.Credentials().Consent(ctx, strings.ToUpper(id))
	if err == nil && !access.May(by, access.EndConsents, c.Person) {
		err = store.ErrNotFound
	}
	if err == nil {
		err = svc.registry.Write(
			ctx,
			registry.Change{By: by, What: "consent.revoke", Subject: c.Agent, Before: c.AppName, Topics: []string{"agents"}},
			func(tx *store.Tx) error { return tx.RevokeConsent(c.ID, "", time.Now()) },
		)
	}
	return store.Explain(err, "consent", id)
}

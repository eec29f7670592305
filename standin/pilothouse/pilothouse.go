// Package pilothouse is a stand-in for an authorization server and identity
// provider: OAuth 2.1 with discovery, registration, codes with PKCE, refresh
// with rotation, client credentials, assertions, revocation, and OpenID Connect
// with groups. Everything it does wrong can be switched on while it runs.
package pilothouse

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Person is somebody who can sign in.
type Person struct {
	Name, FullName string
	Groups         []string
}

// Client is a client that is registered by hand.
type Client struct {
	ID, Secret string
	Redirects  []string
	Key        any // public key of signed assertions
	Trusts     *Authority
}

// Faults that can be switched on, each by its name; several at a time, with
// commas. Those that begin with a step and a colon answer that step with an error
// code of OAuth, as in token:invalid_grant.
const (
	WrongIssuer   = "wrong-issuer"    // the answer of a sign-in names another issuer
	NoIssuer      = "no-issuer"       // the answer names none, although the metadata says it would
	OtherMetadata = "other-metadata"  // the metadata is another issuer's
	NoPKCE        = "no-pkce"         // the metadata names no code challenge
	Huge          = "huge"            // the metadata is larger than anybody reads
	Loop          = "loop"            // the metadata redirects for ever
	Away          = "away"            // the metadata redirects to another origin
	Page          = "page"            // the token endpoint answers with a web page
	Down          = "down"            // everything answers 503
	Slow          = "slow"            // the answer with tokens takes its time
	WrongState    = "wrong-state"     // the answer carries another state
	NoRefresh     = "no-refresh"      // no refresh tokens are given
	KeepRefresh   = "keep-refresh"    // refresh tokens are not rotated
	OtherScope    = "other-scope"     // fewer scopes than asked for are granted
	NoRegister    = "no-registration" // clients cannot register themselves
	InsideToken   = "inside-token"    // the token endpoint is said to be at a private address
	WrongNonce    = "wrong-nonce"     // ID tokens carry another nonce
	WrongKey      = "wrong-key"       // ID tokens are signed with a key that is not published
	Late          = "late"            // ID tokens are from a clock that is ten minutes behind
)

// Authority is the stand-in. It is an http.Handler for its origin.
type Authority struct {
	Issuer string // its own base URL, to be set before it serves
	Name   string
	People []Person
	// Auto signs this person in without showing a page.
	Auto string
	// Life is how long access tokens last; 0 means one hour.
	Life time.Duration

	mu       sync.Mutex
	faults   map[string]bool
	clients  map[string]Client
	codes    map[string]code
	refresh  map[string]session
	access   map[string]session
	spent    map[string]bool
	key, bad *ecdsa.PrivateKey
	counts   map[string]int
	file     string // what is remembered lies there; "" for nothing
}

type code struct {
	session
	client, redirect, challenge, nonce string
}

type session struct {
	person, scope, resource, client string
	until                           time.Time
}

// New returns an authority.
func New(name string, people ...Person) *Authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	bad, err2 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil || err2 != nil {
		panic("no randomness")
	}
	return &Authority{
		Name: name, People: people, faults: map[string]bool{}, clients: map[string]Client{}, codes: map[string]code{},
		refresh: map[string]session{}, access: map[string]session{}, spent: map[string]bool{}, key: key, bad: bad, counts: map[string]int{},
	}
}

// Add registers a client by hand.
func (a *Authority) Add(c Client) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.clients[c.ID] = c
	a.keep()
}

// Fail switches faults on, and all others off.
func (a *Authority) Fail(faults ...string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	clear(a.faults)
	for _, f := range faults {
		if f != "" {
			a.faults[f] = true
		}
	}
}

// Expire ends all access tokens at once; their refresh tokens stay.
func (a *Authority) Expire() {
	a.mu.Lock()
	defer a.mu.Unlock()
	clear(a.access)
}

// kept is what a stand-in remembers over a restart.
type kept struct {
	Clients map[string]Client
	Refresh map[string]keptSession
	Key     []byte
}

type keptSession struct{ Person, Scope, Resource, Client string }

// Remember keeps registrations and grants in a file from now on, as they were
// when it was last written.
func (a *Authority) Remember(path string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.file = path
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	var k kept
	if err == nil {
		err = json.Unmarshal(raw, &k)
	}
	if err != nil {
		return err
	}
	for id, c := range k.Clients {
		if _, there := a.clients[id]; !there {
			a.clients[id] = c
		}
	}
	for t, s := range k.Refresh {
		a.refresh[t] = session{person: s.Person, scope: s.Scope, resource: s.Resource, client: s.Client}
	}
	if key, err := x509.ParseECPrivateKey(k.Key); err == nil {
		a.key = key
	}
	return nil
}

// keep writes what is remembered; the caller holds the lock.
func (a *Authority) keep() {
	if a.file == "" {
		return
	}
	k := kept{Clients: map[string]Client{}, Refresh: map[string]keptSession{}}
	for id, c := range a.clients {
		if c.Key == nil && c.Trusts == nil {
			k.Clients[id] = c
		}
	}
	for t, s := range a.refresh {
		k.Refresh[t] = keptSession{s.person, s.scope, s.resource, s.client}
	}
	k.Key, _ = x509.MarshalECPrivateKey(a.key)
	if raw, err := json.Marshal(k); err == nil {
		_ = os.WriteFile(a.file, raw, 0o600) // a stand-in that forgets is one as well
	}
}

// Count is how often a step was asked for: register, authorize, token, revoke, or
// a kind of grant.
func (a *Authority) Count(step string) int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.counts[step]
}

func (a *Authority) has(fault string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.faults[fault]
}

// failing returns the error code that a step is to answer with.
func (a *Authority) failing(step string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.counts[step]++
	for f := range a.faults {
		if s, code, ok := strings.Cut(f, ":"); ok && s == step {
			return code
		}
	}
	return ""
}

func random() string {
	var b [24]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, status int, code string) {
	answer(w, status, map[string]string{"error": code, "error_description": "the stand-in says so"})
}

func (a *Authority) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/control/fault" && r.Method == http.MethodPost:
		raw, _ := io.ReadAll(io.LimitReader(r.Body, 1000))
		a.Fail(strings.Split(strings.TrimSpace(string(raw)), ",")...)
		w.WriteHeader(http.StatusNoContent)
	case r.URL.Path == "/control/expire" && r.Method == http.MethodPost:
		a.Expire()
		w.WriteHeader(http.StatusNoContent)
	case a.has(Down):
		http.Error(w, "maintenance", http.StatusServiceUnavailable)
	case strings.HasPrefix(r.URL.Path, "/.well-known/oauth-authorization-server"),
		strings.HasPrefix(r.URL.Path, "/.well-known/openid-configuration"):
		a.metadata(w, r)
	case r.URL.Path == "/keys":
		answer(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &a.key.PublicKey, KeyID: "k1", Algorithm: "ES256", Use: "sig"}}})
	case r.URL.Path == "/register" && r.Method == http.MethodPost:
		a.register(w, r)
	case r.URL.Path == "/authorize":
		a.authorize(w, r)
	case r.URL.Path == "/token" && r.Method == http.MethodPost:
		a.token(w, r)
	case r.URL.Path == "/revoke" && r.Method == http.MethodPost:
		a.failing("revoke")
		a.mu.Lock()
		delete(a.refresh, r.FormValue("token"))
		delete(a.access, r.FormValue("token"))
		a.mu.Unlock()
		answer(w, 200, struct{}{})
	default:
		http.NotFound(w, r)
	}
}

func (a *Authority) metadata(w http.ResponseWriter, r *http.Request) {
	switch {
	case a.has(Loop):
		http.Redirect(w, r, r.URL.Path+"?n="+random()[:4], http.StatusFound)
		return
	case a.has(Away):
		http.Redirect(w, r, "http://169.254.169.254/latest", http.StatusFound)
		return
	case a.has(Huge):
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"issuer":"`+strings.Repeat("x", 4<<20)+`"}`)
		return
	}
	m := map[string]any{
		"issuer": a.Issuer, "authorization_endpoint": a.Issuer + "/authorize", "token_endpoint": a.Issuer + "/token", "revocation_endpoint": a.Issuer + "/revoke",
		"registration_endpoint": a.Issuer + "/register", "jwks_uri": a.Issuer + "/keys", "response_types_supported": []string{"code"},
		"grant_types_supported": []string{"authorization_code", "refresh_token", "client_credentials"},
		"code_challenge_methods_supported": []string{
			"S256",
		}, "token_endpoint_auth_methods_supported": []string{"client_secret_basic", "client_secret_post", "private_key_jwt", "none"},
		"authorization_response_iss_parameter_supported": true, "client_id_metadata_document_supported": true,
		"scopes_supported": []string{
			"openid",
			"profile",
			"email",
			"groups",
		}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
	}
	if a.has(OtherMetadata) {
		m["issuer"] = "https://elsewhere.example"
	}
	if a.has(NoPKCE) {
		delete(m, "code_challenge_methods_supported")
	}
	if a.has(NoRegister) {
		delete(m, "registration_endpoint")
		delete(m, "client_id_metadata_document_supported")
	}
	if a.has(InsideToken) {
		m["token_endpoint"] = "https://10.11.12.13/token"
	}
	answer(w, 200, m)
}

func (a *Authority) register(w http.ResponseWriter, r *http.Request) {
	if code := a.failing("register"); code != "" {
		refuse(w, 400, code)
		return
	}
	var in struct {
		Redirects []string `json:"redirect_uris"`
		Name      string   `json:"client_name"`
		Method    string   `json:"token_endpoint_auth_method"`
	}
	if json.NewDecoder(io.LimitReader(r.Body, 64<<10)).Decode(&in) != nil || len(in.Redirects) == 0 {
		refuse(w, 400, "invalid_client_metadata")
		return
	}
	c := Client{ID: "client-" + random()[:12], Secret: "skf-client-" + random(), Redirects: in.Redirects}
	a.Add(c)
	answer(
		w,
		201,
		map[string]any{
			"client_id":                  c.ID,
			"client_secret":              c.Secret,
			"redirect_uris":              in.Redirects,
			"client_name":                in.Name,
			"token_endpoint_auth_method": in.Method,
		},
	)
}

var page = template.Must(template.New("").Parse(`<!doctype html><meta charset=utf-8><title>{{.Name}}</title>
<style>body{font:16px/1.5 system-ui;background:#12313f;color:#eaf3f5;display:grid;place-items:center;height:100vh;margin:0}
main{background:#1b4557;padding:2rem 2.5rem;border-radius:10px;min-width:20rem}h1{font-size:1.3rem;margin:0 0 .5rem}
a{display:block;color:#fff;background:#2a6478;padding:.6rem 1rem;margin:.5rem 0;border-radius:6px;text-decoration:none}
a.no{background:none}small{color:#a9c6cf}</style>
<main><h1>{{.Name}}</h1><small>{{.Client}} asks for: {{.Scope}}</small>{{range .People}}<a id="as-{{.Name}}" href="{{$.Here}}&as={{.Name}}">Sign in as {{.FullName}}</a>{{end}}<a class=no id=decline href="{{.Here}}&as=nobody">Decline</a></main>`))

func (a *Authority) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	a.mu.Lock()
	c, known := a.clients[q.Get("client_id")]
	a.mu.Unlock()
	if !known && strings.HasPrefix(q.Get("client_id"), "https://") {
		c, known = Client{ID: q.Get("client_id"), Redirects: []string{q.Get("redirect_uri")}}, true
	}
	if !known || !slices.Contains(c.Redirects, q.Get("redirect_uri")) {
		http.Error(w, "this client, or its redirect address, is not known here", http.StatusBadRequest)
		return
	}
	person := q.Get("as")
	if person == "" {
		person = a.Auto
	}
	if person == "" {
		_ = page.Execute(
			w,
			map[string]any{"Name": a.Name, "Client": c.ID, "Scope": q.Get("scope"), "People": a.People, "Here": "?" + r.URL.RawQuery},
		)
		return
	}
	back, _ := url.Parse(q.Get("redirect_uri"))
	out := back.Query()
	out.Set("state", q.Get("state"))
	if a.has(WrongState) {
		out.Set("state", random())
	}
	switch {
	case a.has(WrongIssuer):
		out.Set("iss", "https://elsewhere.example")
	case !a.has(NoIssuer):
		out.Set("iss", a.Issuer)
	}
	fault := a.failing("authorize")
	if person == "nobody" {
		fault = "access_denied"
	}
	if fault != "" {
		out.Set("error", fault)
		out.Set("error_description", "the stand-in says so")
	} else {
		scope := q.Get("scope")
		if a.has(OtherScope) {
			scope, _, _ = strings.Cut(scope, " ")
		}
		id := random()
		a.mu.Lock()
		a.codes[id] = code{
			session:   session{person, scope, q.Get("resource"), c.ID, time.Now().Add(time.Minute)},
			client:    c.ID,
			redirect:  q.Get("redirect_uri"),
			challenge: q.Get("code_challenge"),
			nonce:     q.Get("nonce"),
		}
		a.mu.Unlock()
		out.Set("code", id)
	}
	back.RawQuery = out.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

// client finds out which client asks for a token.
func (a *Authority) client(r *http.Request) (Client, bool) {
	id, secret, basic := r.BasicAuth()
	if basic {
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
	} else {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	a.mu.Lock()
	c, ok := a.clients[id]
	a.mu.Unlock()
	switch {
	case !ok:
		return Client{ID: id}, strings.HasPrefix(id, "https://")
	case c.Key != nil:
		t, err := jwt.ParseSigned(r.PostFormValue("client_assertion"), []jose.SignatureAlgorithm{jose.ES256, jose.RS256})
		var claims jwt.Claims
		return c, err == nil && t.Claims(c.Key, &claims) == nil && claims.Subject == id && claims.Issuer == id &&
			claims.Audience.Contains(a.Issuer) &&
			claims.ValidateWithLeeway(jwt.Expected{Time: time.Now()}, time.Minute) == nil
	}
	return c, c.Secret == secret
}

// token is the token endpoint: one switch over the grants.
func (a *Authority) token(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	grant := r.PostFormValue("grant_type")
	a.mu.Lock()
	a.counts[grant]++
	a.mu.Unlock()
	if code := a.failing("token"); code != "" {
		refuse(w, 400, code)
		return
	}
	if a.has(Page) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<!doctype html><h1>Welcome aboard</h1>")
		return
	}
	c, ok := a.client(r)
	if !ok {
		refuse(w, 401, "invalid_client")
		return
	}
	switch grant {
	case "authorization_code":
		a.mu.Lock()
		g, known := a.codes[r.PostFormValue("code")]
		delete(a.codes, r.PostFormValue("code"))
		a.mu.Unlock()
		sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
		if !known || g.client != c.ID || g.redirect != r.PostFormValue("redirect_uri") ||
			g.challenge != base64.RawURLEncoding.EncodeToString(sum[:]) ||
			time.Now().After(g.until) {
			refuse(w, 400, "invalid_grant")
			return
		}
		a.issue(w, g.session, c, g.nonce, true)
	case "refresh_token":
		old := r.PostFormValue("refresh_token")
		a.mu.Lock()
		s, known := a.refresh[old]
		if known && !a.faults[KeepRefresh] {
			delete(a.refresh, old)
			a.spent[old] = true
		}
		a.mu.Unlock()
		if !known || s.client != c.ID {
			refuse(w, 400, "invalid_grant")
			return
		}
		a.issue(w, s, c, "", true)
	case "client_credentials":
		a.issue(w, session{person: "", scope: r.PostFormValue("scope"), resource: r.PostFormValue("resource"), client: c.ID}, c, "", false)
	case "urn:ietf:params:oauth:grant-type:token-exchange":
		t, err := jwt.ParseSigned(r.PostFormValue("subject_token"), []jose.SignatureAlgorithm{jose.ES256})
		var claims jwt.Claims
		if err != nil || t.Claims(&a.key.PublicKey, &claims) != nil ||
			claims.ValidateWithLeeway(jwt.Expected{Time: time.Now()}, time.Minute) != nil {
			refuse(w, 400, "invalid_grant")
			return
		}
		jag := a.sign(
			map[string]any{
				"iss":       a.Issuer,
				"sub":       claims.Subject,
				"aud":       r.PostFormValue("audience"),
				"resource":  r.PostFormValue("resource"),
				"client_id": c.ID,
				"exp":       time.Now().Add(5 * time.Minute).Unix(),
				"iat":       time.Now().Unix(),
				"jti":       random(),
				"scope":     r.PostFormValue("scope"),
			},
			"oauth-id-jag+jwt",
			a.key,
		)
		answer(
			w,
			200,
			map[string]any{
				"issued_token_type": "urn:ietf:params:oauth:token-type:id-jag",
				"access_token":      jag,
				"token_type":        "N_A",
				"expires_in":        300,
			},
		)
	case "urn:ietf:params:oauth:grant-type:jwt-bearer":
		var claims jwt.Claims
		t, err := jwt.ParseSigned(r.PostFormValue("assertion"), []jose.SignatureAlgorithm{jose.ES256})
		if err != nil || c.Trusts == nil || t.Claims(&c.Trusts.key.PublicKey, &claims) != nil || !claims.Audience.Contains(a.Issuer) ||
			claims.Issuer != c.Trusts.Issuer {
			refuse(w, 400, "invalid_grant")
			return
		}
		a.issue(
			w,
			session{person: claims.Subject, scope: r.PostFormValue("scope"), resource: r.PostFormValue("resource"), client: c.ID},
			c,
			"",
			false,
		)
	default:
		refuse(w, 400, "unsupported_grant_type")
	}
}

func (a *Authority) issue(w http.ResponseWriter, s session, c Client, nonce string, refresh bool) {
	if a.has(Slow) {
		time.Sleep(300 * time.Millisecond) // what was shown is spent by now
	}
	life := a.Life
	if life == 0 {
		life = time.Hour
	}
	s.until = time.Now().Add(life)
	access, next := "skf-access-"+random(), "skf-refresh-"+random()
	out := map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": int(life / time.Second), "scope": s.scope}
	a.mu.Lock()
	a.access[access] = s
	if refresh && !a.faults[NoRefresh] {
		out["refresh_token"] = next
		a.refresh[next] = s
	}
	a.keep()
	a.mu.Unlock()
	if slices.Contains(strings.Fields(s.scope), "openid") {
		now, key := time.Now(), a.key
		if a.has(Late) {
			now = now.Add(-2*time.Hour - 10*time.Minute)
		}
		if a.has(WrongKey) {
			key = a.bad
		}
		if a.has(WrongNonce) {
			nonce = random()
		}
		claims := map[string]any{
			"iss":   a.Issuer,
			"sub":   s.person,
			"aud":   c.ID,
			"iat":   now.Unix(),
			"exp":   now.Add(2 * time.Hour).Unix(),
			"nonce": nonce,
		}
		for _, p := range a.People {
			if p.Name == s.person {
				claims["preferred_username"], claims["name"], claims["groups"] = p.Name, p.FullName, p.Groups
			}
		}
		out["id_token"] = a.sign(claims, "JWT", key)
	}
	answer(w, 200, out)
}

func (a *Authority) sign(claims map[string]any, typ string, key *ecdsa.PrivateKey) string {
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "k1"}},
		(&jose.SignerOptions{}).WithType(jose.ContentType(typ)),
	)
	if err != nil {
		panic(err) // the key is always one that can sign
	}
	out, err := jwt.Signed(signer).Claims(claims).Serialize()
	if err != nil {
		panic(err)
	}
	return out
}

// Caller is whoever shows a token at a protected server.
type Caller struct{ Person, Scope, Client string }

type callerKey struct{}

// From returns the caller of a protected server.
func From(ctx context.Context) Caller {
	c, _ := ctx.Value(callerKey{}).(Caller)
	return c
}

// Protect puts the authority before a tool server at a resource address. need
// returns the scope that a request needs; nil is the same as always scope.
func (a *Authority) Protect(resource, scope string, next http.Handler, need func(*http.Request) string) http.Handler {
	u, err := url.Parse(resource)
	if err != nil {
		panic(err)
	}
	meta := u.Scheme + "://" + u.Host + "/.well-known/oauth-protected-resource" + u.Path
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/.well-known/oauth-protected-resource") {
			answer(
				w,
				200,
				map[string]any{
					"resource":              resource,
					"authorization_servers": []string{a.Issuer},
					"scopes_supported":      strings.Fields(scope),
				},
			)
			return
		}
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		a.mu.Lock()
		s, ok := a.access[token]
		a.mu.Unlock()
		if !ok || time.Now().After(s.until) || s.resource != resource {
			code := ""
			if token != "" {
				code = `, error="invalid_token"`
			}
			w.Header().Set("WWW-Authenticate", fmt.Sprintf(`Bearer resource_metadata=%q, scope=%q%s`, meta, scope, code))
			http.Error(w, "sign in first", http.StatusUnauthorized)
			return
		}
		want := scope
		if need != nil {
			want = need(r)
		}
		for _, part := range strings.Fields(want) {
			if !slices.Contains(strings.Fields(s.scope), part) {
				w.Header().
					Set("WWW-Authenticate", fmt.Sprintf(`Bearer error="insufficient_scope", scope=%q, resource_metadata=%q`, want, meta))
				http.Error(w, "a scope is missing", http.StatusForbidden)
				return
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, Caller{s.person, s.scope, s.client})))
	})
}

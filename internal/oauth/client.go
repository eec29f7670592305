// Package oauth speaks OAuth 2.1 as a client: it finds the authorization server
// of a tool server (Metadata), is somebody there (ClientIdentity), begins an
// Authorization in a browser, takes up its answer, and gets and renews Tokens.
// It keeps nothing: what has to be kept is returned. Whatever fails is an *Error
// that names the step and the remedy.
package oauth

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/egress"
	"bouncer/internal/locker"
	"bouncer/internal/token"
)

// Steps of a sign-in, for Refusal.
const (
	StepResource  = "resource metadata"
	StepMetadata  = "authorization server metadata"
	StepRegister  = "registration"
	StepAuthorize = "authorization"
	StepToken     = "token"
)

// Error says at which step a sign-in failed, and why.
type Error struct {
	Step string
	Code string // error code of OAuth; "" when there was none
	Why  string
	// Final is set when asking again in the same way cannot help: the grant is
	// gone, or the client is not known.
	Final bool
	// Help is what helps, where that does not follow from the code and the step.
	Help  string
	cause error
}

func (e *Error) Error() string { return e.Why }

func (e *Error) Unwrap() error { return e.cause }

// CodeIssuerChanged is the code of an error that no authorization server gives: the
// tool server names another one than before.
const CodeIssuerChanged = "issuer_changed"

// Remedy says what helps.
func (e *Error) Remedy() string {
	if e.Help != "" {
		return e.Help
	}
	var inside *egress.PrivateError
	if errors.As(e.cause, &inside) {
		return inside.Remedy()
	}
	switch e.Code {
	case CodeIssuerChanged:
		return "ask whoever runs the server whether that is right before anything is confirmed"
	case "access_denied":
		return "sign in again and agree to what is asked"
	case "invalid_grant":
		return "sign in again"
	case "invalid_client", "unauthorized_client":
		return "check the client id and secret of the server, or remove them to have Bouncer register itself"
	case "invalid_scope", "insufficient_scope":
		return "ask whoever runs the server which scopes you may have"
	case "invalid_redirect_uri":
		return "have the redirect address of Bouncer (setting public-url, then /sign-in/callback) added to the client"
	case "invalid_target":
		return "the authorization server does not know this server; ask whoever runs it"
	case "temporarily_unavailable", "server_error":
		return "try again in a few minutes"
	case "login_required", "interaction_required", "consent_required":
		return "sign in again in a browser"
	}
	switch e.Step {
	case StepResource, StepMetadata:
		return "ask whoever runs the server to mend its metadata, or give its secret as a token instead"
	case StepRegister:
		return "register Bouncer there by hand and give its client id (bouncer server update --client-id)"
	}
	return "try again; if it fails again, ask whoever runs the server"
}

// codes puts the error codes of OAuth into words (RFC 6749, 7009, 7591, 8628,
// 8707, OpenID Connect).
var codes = map[string]string{
	"access_denied":                     "the sign-in was declined",
	"invalid_grant":                     "the grant is no longer valid",
	"invalid_client":                    "the client id or secret is wrong",
	"unauthorized_client":               "this client may not sign in that way",
	"invalid_scope":                     "a scope that was asked for is unknown or not allowed",
	"insufficient_scope":                "a scope is missing",
	"invalid_request":                   "the request was found to be malformed",
	"unsupported_response_type":         "the authorization server does not give codes",
	"unsupported_grant_type":            "the authorization server does not have this kind of grant",
	"server_error":                      "the authorization server failed",
	"temporarily_unavailable":           "the authorization server is busy or under maintenance",
	"invalid_target":                    "the authorization server does not issue tokens for this server",
	"invalid_redirect_uri":              "the redirect address of Bouncer is not accepted",
	"invalid_client_metadata":           "the description of Bouncer as a client is not accepted",
	"invalid_software_statement":        "the description of Bouncer as a client is not accepted",
	"unapproved_software_statement":     "the description of Bouncer as a client is not accepted",
	"unsupported_token_type":            "tokens of this kind cannot be revoked there",
	"login_required":                    "you are not signed in there",
	"interaction_required":              "you have to answer something there first",
	"consent_required":                  "you have not agreed there yet",
	"account_selection_required":        "you have to choose an account there first",
	"request_not_supported":             "the authorization server refused the form of the request",
	"request_uri_not_supported":         "the authorization server refused the form of the request",
	"registration_not_supported":        "the authorization server registers no clients",
	"invalid_dpop_proof":                "the authorization server wants proofs of possession",
	"use_dpop_nonce":                    "the authorization server wants proofs of possession",
	"authorization_pending":             "the sign-in is not finished yet",
	"slow_down":                         "the authorization server was asked too often",
	"expired_token":                     "the sign-in took too long",
	"invalid_token":                     "the token is not accepted",
	"invalid_authorization_details":     "the authorization server refused the form of the request",
	"unmet_authentication_requirements": "a stronger sign-in is needed there",
}

// Denied is the refusal for an error code; description is what the authority
// says besides, which may be anything.
func Denied(step, code, description string) *Error {
	words := codes[code]
	if words == "" {
		words = "the authorization server answered with the error " + endpoint.Clip(code)
	}
	if d := strings.TrimSpace(endpoint.Clip(description)); d != "" {
		words += " (it says: " + printable(d) + ")"
	}
	final := slices.Contains([]string{"invalid_grant", "invalid_client", "unauthorized_client", "access_denied", "invalid_scope"}, code)
	return &Error{Step: step, Code: endpoint.Clip(code), Why: words, Final: final}
}

func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

// ClientIdentity is who Bouncer is at an authority. It belongs to that issuer and is
// shown to no other.
type ClientIdentity struct {
	ID     string
	Secret locker.Secret
	Key    locker.Secret // private key (PEM) for signed assertions; empty for none
	// Method is how it is shown at the token endpoint; "" chooses by what the
	// authority has.
	Method string
	// Proof is the private key (PEM) that tokens are bound to; empty for bearer
	// tokens.
	Proof locker.Secret
}

// RegisterClient registers Bouncer at an authority (RFC 7591). Errors are
// *Refusal.
func (client *Client) RegisterClient(ctx context.Context, a Metadata, redirect, scope string) (ClientIdentity, error) {
	if a.Register == "" {
		return ClientIdentity{}, &Error{Step: StepRegister, Why: "the authorization server registers no clients by itself"}
	}
	kind := "web"
	if u, err := url.Parse(redirect); err == nil && endpoint.Loopback(u.Hostname()) {
		kind = "native"
	}
	in := map[string]any{
		"client_name": "Bouncer", "redirect_uris": []string{redirect}, "application_type": kind,
		"grant_types": []string{"authorization_code", "refresh_token"}, "response_types": []string{"code"},
		"token_endpoint_auth_method": a.method(true),
	}
	if scope != "" {
		in["scope"] = scope
	}
	// Texts and lists of them cannot fail to be written.
	body, _ := json.Marshal(in)
	status, raw, err := client.http.Post(ctx, a.Register, "application/json", body, nil)
	if err != nil {
		return ClientIdentity{}, &Error{
			Step:  StepRegister,
			Why:   "the authorization server could not be asked to register Bouncer: " + err.Error(),
			cause: err,
		}
	}
	var out struct {
		ID     string `json:"client_id"`
		Secret string `json:"client_secret"`
		Method string `json:"token_endpoint_auth_method"`
	}
	if err := oauthError(StepRegister, status, raw); err != nil {
		return ClientIdentity{}, err
	}
	if json.Unmarshal(raw, &out) != nil || out.ID == "" || len(out.ID) > 2000 || len(out.Secret) > locker.MaxToken {
		return ClientIdentity{}, &Error{Step: StepRegister, Why: "the authorization server registered Bouncer without giving a client id"}
	}
	return ClientIdentity{ID: out.ID, Secret: locker.NewSecret(out.Secret), Method: out.Method}, nil
}

// ClientDocument is a client-id metadata document.
type ClientDocument struct {
	ID        string   `json:"client_id"`
	Name      string   `json:"client_name"`
	Redirects []string `json:"redirect_uris"`
	Responses []string `json:"response_types,omitempty"`
	Grants    []string `json:"grant_types,omitempty"`
	Method    string   `json:"token_endpoint_auth_method,omitempty"`
	URI       string   `json:"client_uri,omitempty"`
}

// ClientDocument reads the document at a client id.
func (client *Client) ClientDocument(ctx context.Context, id string) (ClientDocument, error) {
	var c ClientDocument
	return c, client.http.GetJSON(ctx, id, &c)
}

// method chooses how a client is authenticated at the token endpoint. No list
// means basic (RFC 8414).
func (a Metadata) method(secret bool) string {
	has := func(m string) bool { return slices.Contains(a.Methods, m) }
	switch {
	case !secret:
		return "none"
	case len(a.Methods) == 0 || has("client_secret_basic"):
		return "client_secret_basic"
	case has("client_secret_post"):
		return "client_secret_post"
	}
	return "none"
}

// Authorization is one authorization under way: what has to be known to take up its
// answer.
type Authorization struct {
	Server   Metadata
	Identity ClientIdentity
	Redirect string
	State    string
	Verifier string
	Nonce    string
	Scope    string
}

// Begin starts an authorization and returns the address to send the browser to
// (RFC 6749 with PKCE, RFC 7636, and RFC 8707). Errors are *Refusal.
func Begin(a Metadata, id ClientIdentity, redirect, scope string) (*Authorization, string, error) {
	if a.Authorize == "" {
		return nil, "", &Error{Step: StepMetadata, Why: "the authorization server has no address to sign in at"}
	}
	if !slices.Contains(a.Challenge, "S256") {
		return nil, "", &Error{
			Step: StepMetadata,
			Why:  "the authorization server does not say that it protects codes (PKCE with S256), so no sign-in is begun there",
		}
	}
	proof, err := newProofKey(a)
	if err != nil {
		return nil, "", &Error{Step: StepAuthorize, Why: "no key could be made: " + err.Error(), cause: err}
	}
	id.Proof = proof
	f := &Authorization{
		Server:   a,
		Identity: id,
		Redirect: redirect,
		State:    token.New(""),
		Verifier: token.New(""),
		Nonce:    token.New(""),
		Scope:    scope,
	}
	sum := sha256.Sum256([]byte(f.Verifier))
	u, err := url.Parse(a.Authorize)
	if err != nil {
		return nil, "", &Error{Step: StepMetadata, Why: "the authorization endpoint is no address", cause: err}
	}
	q := u.Query()
	q.Set("response_type", "code")
	q.Set("client_id", id.ID)
	q.Set("redirect_uri", redirect)
	q.Set("state", f.State)
	q.Set("code_challenge", base64.RawURLEncoding.EncodeToString(sum[:]))
	q.Set("code_challenge_method", "S256")
	if scope != "" {
		q.Set("scope", scope)
	}
	if slices.Contains(strings.Fields(scope), "openid") {
		q.Set("nonce", f.Nonce)
	}
	if slices.Contains(strings.Fields(scope), "offline_access") {
		q.Set("prompt", "consent") // OpenID Connect, section 11
	}
	if a.Resource != "" {
		q.Set("resource", a.Resource)
	}
	u.RawQuery = q.Encode()
	return f, u.String(), nil
}

// Tokens are what an authority gave.
type Tokens struct {
	Access  locker.Secret
	Refresh locker.Secret
	ID      locker.Secret // ID token of OpenID Connect
	Expires time.Time     // zero when the authority did not say
	Scope   string
	// Bound is set when the access token has to be shown with proofs of possession
	// (RFC 9449), made with the identity's key.
	Bound bool
}

// ExchangeCode takes up the answer of an authorization: it checks where it comes from
// before anything else (RFC 9207), then exchanges the code. Errors are
// *Refusal.
func (client *Client) ExchangeCode(ctx context.Context, f *Authorization, answer url.Values) (Tokens, error) {
	iss, named := answer["iss"]
	switch {
	case named && (len(iss) != 1 || iss[0] != f.Server.Issuer):
		return Tokens{}, &Error{
			Step:  StepAuthorize,
			Final: true,
			Why: fmt.Sprintf(
				"the answer comes from %q instead of %s; nothing of it was used",
				endpoint.Clip(strings.Join(iss, " ")),
				f.Server.Issuer,
			),
		}
	case !named && f.Server.Iss:
		return Tokens{}, &Error{
			Step:  StepAuthorize,
			Final: true,
			Why:   "the answer does not say which authorization server it comes from; nothing of it was used",
		}
	}
	if code := answer.Get("error"); code != "" {
		return Tokens{}, Denied(StepAuthorize, code, answer.Get("error_description"))
	}
	code := answer.Get("code")
	if code == "" || len(code) > 4096 {
		return Tokens{}, &Error{Step: StepAuthorize, Final: true, Why: "the answer holds no code"}
	}
	return client.token(ctx, f.Server, f.Identity, url.Values{
		"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {f.Redirect}, "code_verifier": {f.Verifier},
	}, f.Scope)
}

// Refresh gets fresh tokens (RFC 6749, section 6). Without a new refresh token
// the old one stays. Errors are *Refusal.
func (client *Client) Refresh(ctx context.Context, a Metadata, id ClientIdentity, old Tokens) (Tokens, error) {
	t, err := client.token(ctx, a, id, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {old.Refresh.Reveal()}}, old.Scope)
	if err == nil && t.Refresh.Empty() {
		t.Refresh = old.Refresh
	}
	if err == nil && t.ID.Empty() {
		t.ID = old.ID
	}
	return t, err
}

// ClientCredentials gets a token for Bouncer itself (client credentials, RFC 6749, section
// 4.4). Errors are *Refusal.
func (client *Client) ClientCredentials(ctx context.Context, a Metadata, id ClientIdentity, scope string) (Tokens, error) {
	v := url.Values{"grant_type": {"client_credentials"}}
	if scope != "" {
		v.Set("scope", scope)
	}
	return client.token(ctx, a, id, v, scope)
}

// JWTBearer gets a token for Bouncer itself with an assertion of the platform that
// it runs on (RFC 7523, section 2.1: workload identity). Errors are *Refusal.
func (client *Client) JWTBearer(ctx context.Context, a Metadata, id ClientIdentity, assertion locker.Secret, scope string) (Tokens, error) {
	v := url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:jwt-bearer"}, "assertion": {assertion.Reveal()}}
	if scope != "" {
		v.Set("scope", scope)
	}
	return client.token(ctx, a, id, v, scope)
}

// idJAG is the token type of an identity assertion grant.
const idJAG = "urn:ietf:params:oauth:token-type:id-jag"

// IdentityAssertion exchanges a person's ID token at the identity provider for an identity
// assertion, and that at the server's authority for an access token
// (enterprise-managed authorization: RFC 8693, then RFC 7523). Errors are
// *Refusal.
func (client *Client) IdentityAssertion(
	ctx context.Context,
	idp Metadata,
	atIDP ClientIdentity,
	idToken locker.Secret,
	a Metadata,
	id ClientIdentity,
	scope string,
) (Tokens, error) {
	v := url.Values{
		"grant_type": {"urn:ietf:params:oauth:grant-type:token-exchange"}, "requested_token_type": {idJAG}, "audience": {a.Issuer},
		"subject_token": {idToken.Reveal()}, "subject_token_type": {"urn:ietf:params:oauth:token-type:id_token"},
	}
	if a.Resource != "" {
		v.Set("resource", a.Resource)
	}
	if scope != "" {
		v.Set("scope", scope)
	}
	plain := idp
	plain.Resource = "" // what is asked of the provider names the resource itself
	jag, err := client.token(ctx, plain, atIDP, v, "")
	if err != nil {
		return Tokens{}, err
	}
	w := url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:jwt-bearer"}, "assertion": {jag.Access.Reveal()}}
	if scope != "" {
		w.Set("scope", scope)
	}
	return client.token(ctx, a, id, w, scope)
}

// RevokeToken ends a grant at its authority (RFC 7009), where that is possible.
func (client *Client) RevokeToken(ctx context.Context, a Metadata, id ClientIdentity, t Tokens) error {
	if a.Revoke == "" {
		return nil
	}
	v := url.Values{"token": {t.Refresh.Reveal()}, "token_type_hint": {"refresh_token"}}
	if t.Refresh.Empty() {
		v = url.Values{"token": {t.Access.Reveal()}, "token_type_hint": {"access_token"}}
	}
	header, err := id.authenticate(a, v)
	if err != nil {
		return err
	}
	status, raw, err := client.http.Post(ctx, a.Revoke, "application/x-www-form-urlencoded", []byte(v.Encode()), header)
	if err != nil {
		return err
	}
	if err := oauthError(StepToken, status, raw); err != nil {
		return err
	}
	return nil
}

// token asks the token endpoint. wanted is the scope that holds when the answer
// names none.
func (client *Client) token(ctx context.Context, a Metadata, id ClientIdentity, v url.Values, wanted string) (Tokens, error) {
	if a.Resource != "" && v.Get("resource") == "" {
		v.Set("resource", a.Resource)
	}
	header, err := id.authenticate(a, v)
	if err != nil {
		return Tokens{}, &Error{Step: StepToken, Why: err.Error(), Final: true, cause: err}
	}
	sent := time.Now()
	status, raw, err := client.postProof(ctx, a, id, []byte(v.Encode()), header)
	if err != nil {
		return Tokens{}, &Error{Step: StepToken, Why: "the authorization server could not be asked for a token: " + err.Error(), cause: err}
	}
	if err := oauthError(StepToken, status, raw); err != nil {
		return Tokens{}, err
	}
	var t struct {
		Access  string   `json:"access_token"`
		Type    string   `json:"token_type"`
		Refresh string   `json:"refresh_token"`
		ID      string   `json:"id_token"`
		Scope   *string  `json:"scope"`
		In      *float64 `json:"expires_in"`
	}
	bad := func(why string) (Tokens, error) {
		return Tokens{}, &Error{Step: StepToken, Why: "the authorization server's answer " + why}
	}
	if err := json.Unmarshal(raw, &t); err != nil {
		return bad("cannot be read as tokens")
	}
	exchange := v.Get("requested_token_type") != ""
	switch {
	case t.Access == "":
		return bad("holds no token")
	case len(t.Access) > locker.MaxToken || len(t.Refresh) > locker.MaxToken || len(t.ID) > 4*locker.MaxToken:
		return bad("holds a token that is too long")
	case !exchange && !strings.EqualFold(t.Type, "bearer") && (id.Proof.Empty() || !strings.EqualFold(t.Type, "dpop")):
		return bad(fmt.Sprintf("holds a token of the kind %q, not a bearer token", endpoint.Clip(t.Type)))
	case strings.ContainsFunc(t.Access, func(r rune) bool { return r <= ' ' || r > '~' }):
		return bad("holds a token that no header can carry")
	}
	out := Tokens{
		Access:  locker.NewSecret(t.Access),
		Refresh: locker.NewSecret(t.Refresh),
		ID:      locker.NewSecret(t.ID),
		Scope:   wanted,
		Bound:   strings.EqualFold(t.Type, "dpop"),
	}
	if t.Scope != nil {
		out.Scope = endpoint.Clip(*t.Scope)
	}
	if t.In != nil && *t.In > 0 && *t.In < 10*365*86400 {
		// Counted from before the question was sent, on our clock: neither a slow
		// answer nor another clock makes a token look fresher than it is.
		out.Expires = sent.Add(time.Duration(*t.In * float64(time.Second))).UTC()
	}
	return out, nil
}

// postProof asks the token endpoint, with a proof of possession where tokens are bound
// to a key. A server that wants its nonce in the proof is asked once more.
func (client *Client) postProof(ctx context.Context, a Metadata, id ClientIdentity, body []byte, header http.Header) (int, []byte, error) {
	const form = "application/x-www-form-urlencoded"
	if id.Proof.Empty() {
		return client.http.Post(ctx, a.Token, form, body, header)
	}
	nonce := ""
	for again := true; ; again = false {
		proof, err := Proof(id.Proof, http.MethodPost, a.Token, locker.Secret{}, nonce)
		if err != nil {
			return 0, nil, err
		}
		h := header.Clone()
		if h == nil {
			h = http.Header{}
		}
		h["Dpop"] = []string{proof}
		status, raw, answer, err := client.http.Exchange(ctx, a.Token, form, body, h)
		if nonce = answer.Get("DPoP-Nonce"); err != nil || !again || nonce == "" || !strings.Contains(string(raw), "use_dpop_nonce") {
			return status, raw, err
		}
	}
}

// authenticate adds who Bouncer is to a request to the token endpoint.
func (id ClientIdentity) authenticate(a Metadata, v url.Values) (http.Header, error) {
	method := id.Method
	switch {
	case !id.Key.Empty():
		method = "private_key_jwt"
	case id.Secret.Empty():
		method = "none"
	case method == "" || method == "none":
		method = a.method(true)
		if method == "none" {
			method = "client_secret_post"
		}
	}
	switch method {
	case "client_secret_basic":
		// Both are form-encoded first (RFC 6749, section 2.3.1).
		pair := url.QueryEscape(id.ID) + ":" + url.QueryEscape(id.Secret.Reveal())
		return http.Header{"Authorization": {"Basic " + base64.StdEncoding.EncodeToString([]byte(pair))}}, nil
	case "private_key_jwt":
		signed, err := id.assertion(a)
		if err != nil {
			return nil, err
		}
		v.Set("client_id", id.ID)
		v.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		v.Set("client_assertion", signed)
		return nil, nil
	case "client_secret_post":
		v.Set("client_secret", id.Secret.Reveal())
	}
	v.Set("client_id", id.ID)
	return nil, nil
}

// assertion signs who Bouncer is (RFC 7523, section 2.2).
func (id ClientIdentity) assertion(a Metadata) (string, error) {
	key, alg, err := ReadPrivateKey(id.Key.Reveal())
	if err != nil {
		return "", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: key}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	now := time.Now()
	return jwt.Signed(signer).Claims(jwt.Claims{
		Issuer: id.ID, Subject: id.ID, Audience: jwt.Audience{a.Issuer}, ID: token.New(""),
		// A little in the past, for clocks that are behind.
		IssuedAt: jwt.NewNumericDate(now.Add(-30 * time.Second)), Expiry: jwt.NewNumericDate(now.Add(4 * time.Minute)),
	}).Serialize()
}

// ReadPrivateKey reads a private key in PEM, with the algorithm it signs with.
func ReadPrivateKey(text string) (crypto.PrivateKey, jose.SignatureAlgorithm, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, "", errors.New("the private key is no PEM")
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		if k, err2 := x509.ParseECPrivateKey(block.Bytes); err2 == nil {
			key, err = k, nil
		} else if k, err2 := x509.ParsePKCS1PrivateKey(block.Bytes); err2 == nil {
			key, err = k, nil
		}
	}
	if err != nil {
		return nil, "", errors.New("the private key is not in a form that can be read (PKCS #8, SEC 1 or PKCS #1, without a passphrase)")
	}
	switch k := key.(type) {
	case *rsa.PrivateKey:
		return k, jose.RS256, nil
	case ed25519.PrivateKey:
		return k, jose.EdDSA, nil
	case *ecdsa.PrivateKey:
		switch k.Curve {
		case elliptic.P256():
			return k, jose.ES256, nil
		case elliptic.P384():
			return k, jose.ES384, nil
		}
	}
	return nil, "", errors.New("the private key is of a kind that cannot sign here; use RSA, P-256, P-384 or Ed25519")
}

// oauthError reads an error answer (RFC 6749, section 5.2).
func oauthError(step string, status int, raw []byte) error {
	if status >= 200 && status < 300 {
		var e struct {
			Error string `json:"error"`
		}
		if json.Unmarshal(raw, &e) == nil && e.Error != "" { // some answer 200 with an error
			return Denied(step, e.Error, "")
		}
		return nil
	}
	var e struct {
		Error       string `json:"error"`
		Description string `json:"error_description"`
	}
	if json.Unmarshal(raw, &e) == nil && e.Error != "" {
		return Denied(step, e.Error, e.Description)
	}
	return &Error{Step: step, Why: fmt.Sprintf("the authorization server answered %d %s", status, http.StatusText(status))}
}

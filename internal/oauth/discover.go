package oauth

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/egress"
)

// Client speaks OAuth with authorization servers that others name. It keeps no
// state but its connections, and is safe for concurrent use.
type Client struct{ http *egress.Client }

// NewClient returns a Client that reaches out through http.
func NewClient(http *egress.Client) *Client { return &Client{http: http} }

// Challenge is what a server says in WWW-Authenticate (RFC 6750, RFC 9728).
type Challenge struct {
	Metadata string // address of the resource metadata
	Scope    string
	Error    string
}

var bearerWord = regexp.MustCompile(`(?i)\b(?:bearer|dpop)\b`)

// ReadChallenge reads the Bearer or DPoP challenge of an answer; ok is false when there
// is none.
func ReadChallenge(h http.Header) (c Challenge, ok bool) {
	for _, v := range h.Values("WWW-Authenticate") {
		at := bearerWord.FindStringIndex(v)
		if at == nil || len(v) > 8<<10 {
			continue
		}
		params := authParams(v[at[1]:])
		return Challenge{params["resource_metadata"], params["scope"], params["error"]}, true
	}
	return c, false
}

// authParams reads name=value and name="value" pairs (RFC 9110, section 11.2).
func authParams(s string) map[string]string {
	out := map[string]string{}
	for {
		s = strings.TrimLeft(s, " \t,")
		name, rest, ok := strings.Cut(s, "=")
		if !ok {
			return out
		}
		name = strings.ToLower(strings.TrimSpace(name))
		rest = strings.TrimLeft(rest, " \t")
		var value strings.Builder
		if strings.HasPrefix(rest, `"`) {
			i := 1
			for ; i < len(rest) && rest[i] != '"'; i++ {
				if rest[i] == '\\' && i+1 < len(rest) {
					i++
				}
				value.WriteByte(rest[i])
			}
			s = rest[min(i+1, len(rest)):]
		} else {
			end := strings.IndexAny(rest, " \t,")
			if end < 0 {
				end = len(rest)
			}
			value.WriteString(rest[:end])
			s = rest[end:]
		}
		if _, twice := out[name]; !twice {
			out[name] = value.String()
		}
	}
}

// Metadata is an authorization server as its metadata describes it (RFC 8414,
// OpenID Connect Discovery), with what the resource says of itself (RFC 9728).
type Metadata struct {
	Issuer    string   `json:"issuer"`
	Authorize string   `json:"authorization_endpoint"`
	Token     string   `json:"token_endpoint"`
	Register  string   `json:"registration_endpoint"`
	Revoke    string   `json:"revocation_endpoint"`
	Keys      string   `json:"jwks_uri"`
	Methods   []string `json:"token_endpoint_auth_methods_supported"`
	Scopes    []string `json:"scopes_supported"`
	Challenge []string `json:"code_challenge_methods_supported"`
	Iss       bool     `json:"authorization_response_iss_parameter_supported"`
	Documents bool     `json:"client_id_metadata_document_supported"`
	Proofs    []string `json:"dpop_signing_alg_values_supported"`

	// Of the resource, not of the authority.
	Resource       string   `json:"-"` // to be named in requests (RFC 8707); "" when the server has no metadata
	ResourceScopes []string `json:"-"`
	// Guessed is set when there is no metadata and the addresses are those of the
	// revision 2025-03-26.
	Guessed bool `json:"-"`
}

// Discover finds the authorization server of a tool server. The challenge is
// the one of its 401, if it gave one. Errors are *Refusal.
func (client *Client) Discover(ctx context.Context, server string, c Challenge) (Metadata, error) {
	base, err := url.Parse(server)
	if err != nil {
		return Metadata{}, &Error{Step: StepResource, Why: "the address of the server cannot be read"}
	}
	var res struct {
		Resource string   `json:"resource"`
		Servers  []string `json:"authorization_servers"`
		Scopes   []string `json:"scopes_supported"`
	}
	found := false
	for _, at := range resourceAddresses(base, c.Metadata) {
		err := client.http.GetJSON(ctx, at, &res)
		if err == nil {
			found = true
			break
		}
		if at == c.Metadata || !missing(err) {
			return Metadata{}, &Error{Step: StepResource, Why: "the resource metadata cannot be read: " + err.Error(), cause: err}
		}
	}
	if !found {
		return client.legacyMetadata(ctx, base)
	}
	switch {
	case !covers(res.Resource, server):
		return Metadata{}, &Error{
			Step: StepResource,
			Why:  fmt.Sprintf("the resource metadata is for %q, not for this server", endpoint.Clip(res.Resource)),
		}
	case len(res.Servers) == 0:
		return Metadata{}, &Error{Step: StepResource, Why: "the resource metadata names no authorization server"}
	}
	a, err := client.metadata(ctx, res.Servers[0])
	a.Resource, a.ResourceScopes = res.Resource, res.Scopes
	return a, err
}

// resourceAddresses are where resource metadata is looked for (RFC 9728,
// section 3.1; MCP 2025-11-25, authorization).
func resourceAddresses(base *url.URL, told string) []string {
	if told != "" {
		return []string{told}
	}
	root := base.Scheme + "://" + base.Host + "/.well-known/oauth-protected-resource"
	if path := strings.TrimRight(base.EscapedPath(), "/"); path != "" {
		return []string{root + path, root}
	}
	return []string{root}
}

// missing reports whether there is simply nothing at an address.
func missing(err error) bool {
	var s *egress.StatusError
	return errors.As(err, &s) && s.Status >= 400 && s.Status < 500
}

// covers reports whether a resource identifier is the server's: the same, or
// the same origin with a path above it.
func covers(resource, server string) bool {
	if strings.TrimRight(resource, "/") == strings.TrimRight(server, "/") {
		return true
	}
	r, err1 := url.Parse(resource)
	s, err2 := url.Parse(server)
	if err1 != nil || err2 != nil || r.Scheme != s.Scheme || r.Host != s.Host || r.RawQuery != "" || r.Fragment != "" {
		return false
	}
	return strings.HasPrefix(s.Path+"/", strings.TrimRight(r.Path, "/")+"/")
}

// Metadata reads the metadata of an issuer. Errors are *Refusal.
func (client *Client) Metadata(ctx context.Context, issuer string) (Metadata, error) {
	return client.metadata(ctx, issuer)
}

func (client *Client) metadata(ctx context.Context, issuer string) (Metadata, error) {
	fail := func(why string, cause error) (Metadata, error) {
		return Metadata{}, &Error{Step: StepMetadata, Why: why, cause: cause}
	}
	if err := endpoint.CheckEndpoint(issuer); err != nil {
		return fail("the authorization server "+err.Error(), err)
	}
	u, err := url.Parse(issuer)
	if err != nil {
		return fail("the issuer is no address", err)
	}
	origin, path := u.Scheme+"://"+u.Host, strings.TrimRight(u.EscapedPath(), "/")
	tries := []string{origin + "/.well-known/oauth-authorization-server" + path, origin + "/.well-known/openid-configuration" + path}
	if path != "" {
		tries = append(tries, origin+path+"/.well-known/openid-configuration")
	}
	for _, at := range tries {
		var a Metadata
		err := client.http.GetJSON(ctx, at, &a)
		if missing(err) {
			continue
		}
		if err != nil {
			return fail("the metadata of the authorization server cannot be read: "+err.Error(), err)
		}
		if strings.TrimSuffix(a.Issuer, "/") != strings.TrimSuffix(issuer, "/") {
			return fail(fmt.Sprintf("the metadata of %s says that it is %q", endpoint.Clip(issuer), endpoint.Clip(a.Issuer)), nil)
		}
		return a, a.check()
	}
	return fail("the authorization server "+endpoint.Clip(issuer)+" has no metadata at its usual addresses", nil)
}

func (a *Metadata) check() error {
	endpoints := map[string]string{
		"authorization": a.Authorize,
		"token":         a.Token,
		"registration":  a.Register,
		"revocation":    a.Revoke,
	}
	for what, at := range endpoints {
		if at == "" && what != "token" {
			continue
		}
		if err := endpoint.CheckEndpoint(at); err != nil {
			return &Error{Step: StepMetadata, Why: "the " + what + " endpoint " + err.Error(), cause: err}
		}
	}
	return nil
}

// legacyMetadata finds the authority the way of revision 2025-03-26: at the origin of the
// server, with or without metadata.
func (client *Client) legacyMetadata(ctx context.Context, base *url.URL) (Metadata, error) {
	origin := base.Scheme + "://" + base.Host
	var a Metadata
	err := client.http.GetJSON(ctx, origin+"/.well-known/oauth-authorization-server", &a)
	switch {
	case err == nil && strings.TrimSuffix(a.Issuer, "/") != origin:
		return Metadata{}, &Error{
			Step: StepMetadata,
			Why:  fmt.Sprintf("the metadata of %s says that it is %q", endpoint.Clip(origin), endpoint.Clip(a.Issuer)),
		}
	case err == nil:
		return a, a.check()
	case !missing(err):
		return Metadata{}, &Error{
			Step:  StepMetadata,
			Why:   "the metadata of the authorization server cannot be read: " + err.Error(),
			cause: err,
		}
	}
	if err := endpoint.CheckEndpoint(origin); err != nil {
		return Metadata{}, &Error{Step: StepMetadata, Why: "the server wants a sign-in, but says nowhere where, and " + err.Error()}
	}
	return Metadata{
		Issuer:    origin,
		Authorize: origin + "/authorize",
		Token:     origin + "/token",
		Register:  origin + "/register",
		Challenge: []string{"S256"},
		Guessed:   true,
	}, nil
}

// ScopesFor returns the scopes to ask for: those of the challenge, else those of
// the resource, else none; with those granted already, and with offline access
// where the authority has it (MCP 2025-11-25 and 2026-07-28, authorization).
func (a Metadata) ScopesFor(challenged, granted string) string {
	want := strings.Fields(challenged)
	if len(want) == 0 {
		want = slices.Clone(a.ResourceScopes)
	}
	want = append(want, strings.Fields(granted)...)
	if slices.Contains(a.Scopes, "offline_access") {
		want = append(want, "offline_access")
	}
	var out []string
	for _, s := range want {
		if !slices.Contains(out, s) && len(out) < 100 {
			out = append(out, s)
		}
	}
	return strings.Join(out, " ")
}

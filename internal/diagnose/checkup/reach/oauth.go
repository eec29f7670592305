package reach

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/evidence"
	"bouncer/internal/diagnose/checkup/exam"
	"bouncer/internal/oauth"
)

// grants looks at how a token is got for the address: what is said of it, and what the
// authorization server does.
type grants struct{ *web }

// oauth looks at each step of OAuth on its own: the metadata of the resource and of its
// authorization server, and, for a client that is known, what it is answered there.
func (h grants) oauth(ctx context.Context, x *evidence.Exchange) {
	challenge, told := oauth.ReadChallenge(http.Header{"Www-Authenticate": {x.Header["Www-Authenticate"]}})
	named := told && challenge.Metadata != ""
	issuers := h.resource(ctx, challenge.Metadata, named)
	if len(issuers) == 0 && h.Target.Client != nil && h.Target.Client.Issuer != "" {
		issuers = []string{h.Target.Client.Issuer}
	}
	if len(issuers) == 0 {
		return
	}
	a := h.authority(ctx, issuers[0])
	if a == nil || a.Status != http.StatusOK || a.Malformed || a.Expected != "" {
		return
	}
	if h.Target.Client == nil || ctx.Err() != nil {
		return
	}
	h.tryClient(ctx, *a)
}

// tryClient asks for what a client that is known would be given.
func (h grants) tryClient(ctx context.Context, a evidence.OAuthStep) {
	c := h.Target.Client
	switch {
	case c.RefreshToken != "":
		h.token(ctx, a, evidence.RefreshStep, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {c.RefreshToken}})
	case c.Machine:
		v := url.Values{"grant_type": {"client_credentials"}}
		h.token(ctx, a, evidence.TokenStep, v)
	case c.ID != "" && a.Authorize != "":
		h.authorize(ctx, a)
	}
}

// document gets a JSON document without a credential.
func (h grants) document(ctx context.Context, what, address string, into any) evidence.OAuthStep {
	s := evidence.OAuthStep{What: what, URL: h.shown(address)}
	x, raw := h.send(ctx, request{
		method: http.MethodGet, address: address, header: http.Header{"Accept": {"application/json"}}, limit: min(probeTime,
			h.Options.Patience), most: 256 << 10,
	})
	s.Step, s.Status = x.Step, x.Status
	if x.Status == http.StatusOK && json.Unmarshal(raw, into) != nil {
		s.Malformed = true
		s.Text = x.Reply.Quote
	}
	return s
}

// wellKnown are the addresses of a metadata document for an address (RFC 8414, section 3;
// RFC 9728, section 3).
func wellKnown(base, suffix string) (list []string) {
	at, err := url.Parse(base)
	if err != nil || at.Host == "" {
		return nil
	}
	root := at.Scheme + "://" + at.Host + "/.well-known/" + suffix
	if path := strings.Trim(at.Path, "/"); path != "" {
		list = append(list, root+"/"+path)
	}
	return append(list, root)
}

// resource reads the metadata of the server (RFC 9728). What is only guessed and not
// there is no evidence.
func (h grants) resource(ctx context.Context, address string, named bool) []string {
	addresses := []string{address}
	if !named {
		addresses = wellKnown(h.Target.Server.URL, "oauth-protected-resource")
	} else if at, err := h.at.Parse(address); err == nil {
		addresses[0] = at.String()
	}
	for _, a := range addresses {
		h.Tell("authorization", "reading "+h.shown(a))
		var m struct {
			Resource string   `json:"resource"`
			Servers  []string `json:"authorization_servers"`
			Scopes   []string `json:"scopes_supported"`
		}
		s := h.document(ctx, evidence.ResourceStep, a, &m)
		if !named && (s.Status != http.StatusOK || s.Malformed || m.Resource == "" && len(m.Servers) == 0) {
			continue
		}
		s.Resource, s.Servers, s.Scopes = h.Short(m.Resource), m.Servers, m.Scopes
		if m.Resource != "" && !covers(m.Resource, h.Target.Server.URL) {
			s.Expected = h.shown(h.Target.Server.URL)
		}
		h.Evidence.OAuth = append(h.Evidence.OAuth, s)
		return m.Servers
	}
	return nil
}

// covers reports whether a resource is the server, or an address above it.
func covers(resource, server string) bool {
	r, err1 := url.Parse(resource)
	s, err2 := url.Parse(server)
	if err1 != nil || err2 != nil || !strings.EqualFold(r.Host, s.Host) || r.Scheme != s.Scheme {
		return false
	}
	prefix := strings.TrimRight(r.Path, "/")
	return s.Path == prefix || strings.HasPrefix(s.Path, prefix+"/")
}

// authority reads the metadata of an authorization server.
func (h grants) authority(ctx context.Context, issuer string) *evidence.OAuthStep {
	addresses := wellKnown(issuer, "oauth-authorization-server")
	addresses = append(addresses, wellKnown(issuer, "openid-configuration")...)
	if at, err := url.Parse(issuer); err == nil && strings.Trim(at.Path, "/") != "" {
		addresses = append(addresses, strings.TrimRight(issuer, "/")+"/.well-known/openid-configuration")
	}
	var first *evidence.OAuthStep
	for _, a := range addresses {
		h.Tell("authorization", "reading "+h.shown(a))
		var m struct {
			Issuer    string   `json:"issuer"`
			Authorize string   `json:"authorization_endpoint"`
			Token     string   `json:"token_endpoint"`
			Register  string   `json:"registration_endpoint"`
			Methods   []string `json:"code_challenge_methods_supported"`
			Grants    []string `json:"grant_types_supported"`
			Document  bool     `json:"client_id_metadata_document_supported"`
		}
		s := h.document(ctx, evidence.AuthorityStep, a, &m)
		s.Documents = m.Document
		s.Issuer, s.Authorize, s.Token, s.Register, s.Methods = h.Short(m.Issuer), m.Authorize, m.Token, m.Register, m.Methods
		if s.Status == http.StatusOK && !s.Malformed && strings.TrimRight(m.Issuer, "/") != strings.TrimRight(issuer, "/") {
			s.Expected = h.Short(issuer)
		}
		if m.Authorize == "" && len(m.Grants) > 0 && !slices.Contains(m.Grants, "authorization_code") {
			s.Methods = append(s.Methods, "none needed")
		}
		if first == nil {
			first = &s
		}
		if s.Status == http.StatusOK || s.Failed() {
			first = &s
			break
		}
	}
	if first != nil {
		h.Evidence.OAuth = append(h.Evidence.OAuth, *first)
	}
	return first
}

// authorize asks the authorization endpoint what a browser would ask, and does not go on:
// it shows whether the client and Bouncer's address are known there.
func (h grants) authorize(ctx context.Context, a evidence.OAuthStep) {
	c := h.Target.Client
	at, err := url.Parse(a.Authorize)
	if err != nil {
		return
	}
	q := at.Query()
	q.Set("response_type", "code")
	q.Set("client_id", c.ID)
	q.Set("redirect_uri", c.Redirect)
	q.Set("state", random())
	q.Set("code_challenge", random()+random())
	q.Set("code_challenge_method", "S256")
	q.Set("resource", h.Target.Server.URL)
	if c.Scope != "" {
		q.Set("scope", c.Scope)
	}
	at.RawQuery = q.Encode()
	h.Tell("authorization", "asking "+at.Host+" what a browser would ask")
	x, raw := h.send(ctx, request{
		method: http.MethodGet, address: at.String(), header: http.Header{"Accept": {"text/html"}}, limit: min(probeTime,
			h.Options.Patience), most: 64 << 10,
	})
	at.RawQuery = ""
	s := evidence.OAuthStep{Step: x.Step, What: evidence.AuthorizeStep, URL: h.shown(at.String()), Status: x.Status, Expected: c.Redirect}
	if to, err := url.Parse(x.Header["Location"]); err == nil && x.Header["Location"] != "" {
		s.Code, s.Text = h.Short(to.Query().Get("error")), h.Short(to.Query().Get("error_description"))
		to.RawQuery = ""
		s.Location = h.shown(to.String())
	}
	if x.Status >= 400 {
		s.Code, s.Text = oauthWords(raw, h.Run)
	}
	h.Evidence.OAuth = append(h.Evidence.OAuth, s)
}

func random() string {
	var b [24]byte
	_, _ = rand.Read(b[:]) // never fails
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// token asks the token endpoint.
func (h grants) token(ctx context.Context, a evidence.OAuthStep, what string, v url.Values) {
	c := h.Target.Client
	v.Set("resource", h.Target.Server.URL)
	if c.Scope != "" {
		v.Set("scope", c.Scope)
	}
	header := http.Header{"Accept": {"application/json"}, "Content-Type": {"application/x-www-form-urlencoded"}}
	if c.Secret != "" {
		pair := url.QueryEscape(c.ID) + ":" + url.QueryEscape(c.Secret)
		header["Authorization"] = []string{"Basic " + base64.StdEncoding.EncodeToString([]byte(pair))}
	} else {
		v.Set("client_id", c.ID)
	}
	h.Tell("authorization", "asking for a token")
	x, raw := h.post(ctx, a.Token, v, header)
	s := evidence.OAuthStep{Step: x.Step, What: what, URL: h.shown(a.Token), Status: x.Status, Expected: c.Redirect}
	if x.Status != http.StatusOK {
		s.Code, s.Text = oauthWords(raw, h.Run)
		h.Evidence.OAuth = append(h.Evidence.OAuth, s)
		return
	}
	var m struct {
		Access  string `json:"access_token"`
		Refresh string `json:"refresh_token"`
	}
	s.Malformed = json.Unmarshal(raw, &m) != nil || m.Access == ""
	s.Rotated = m.Refresh != "" && m.Refresh != c.RefreshToken
	h.Evidence.OAuth = append(h.Evidence.OAuth, s)
	if s.Malformed {
		return
	}
	h.forms, h.Evidence.Credentials = nil, nil
	h.add(attached{Form: evidence.Form{Header: "Authorization", Scheme: "Bearer"}, value: "Bearer " + m.Access})
}

func (h grants) post(ctx context.Context, address string, v url.Values, header http.Header) (evidence.Exchange, []byte) {
	body := v.Encode()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(body))
	x := evidence.Exchange{Method: http.MethodPost, URL: h.shown(address)}
	if err != nil {
		x.Err = err
		return x, nil
	}
	req.Header = header
	began := time.Now()
	res, err := h.do(req)
	x.Took = time.Since(began)
	if err != nil {
		x.Err = unwrapped(err)
		return x, nil
	}
	raw := h.read(ctx, res, &x, request{most: 256 << 10})
	return x, raw
}

// oauthWords are the error code and the words of an answer: JSON, or the text of a page.
func oauthWords(raw []byte, r *exam.Run) (code, text string) {
	var m struct {
		Code string `json:"error"`
		Text string `json:"error_description"`
	}
	if json.Unmarshal(raw, &m) == nil && m.Code+m.Text != "" {
		return r.Short(m.Code), r.Short(m.Text)
	}
	return "", r.Short(pageText(string(raw)))
}

// pageText is the text of a web page, without what is between tags.
func pageText(page string) string {
	var b strings.Builder
	depth := 0
	for _, c := range page {
		switch {
		case c == '<':
			depth++
		case c == '>' && depth > 0:
			depth--
			b.WriteByte(' ')
		case depth == 0:
			b.WriteRune(c)
		}
	}
	return b.String()
}

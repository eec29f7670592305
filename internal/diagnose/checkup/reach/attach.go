package reach

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"bouncer/internal/core/evidence"
	"bouncer/internal/link"
)

// attached is a credential as it goes along with a request.
type attached struct {
	evidence.Form
	value string // the whole header, or the parameter
	sign  func(method, address string) (string, error)
}

// attach takes what the target is given, as requests would carry it.
func (w *way) attach(ctx context.Context) error {
	c := w.Target.Credential
	if secret := c.Secret.Reveal(); secret != "" {
		switch s := w.Target.Server; {
		case s.SecretHeader != "":
			w.add(attached{Form: evidence.Form{Header: http.CanonicalHeaderKey(s.SecretHeader)}, value: secret})
		case s.SecretQuery != "":
			w.add(attached{Form: evidence.Form{Query: s.SecretQuery}, value: secret})
		default:
			w.add(attached{Form: evidence.Form{Header: "Authorization", Scheme: "Bearer"}, value: "Bearer " + secret})
		}
	}
	if c.Live != nil {
		list, err := c.Live.Now(ctx)
		var failure *link.Failure
		if errors.As(err, &failure) {
			w.Evidence.Target.Missing, w.Evidence.Target.Unusable = failure.Message, &failure.Finding
			return nil
		}
		if err != nil {
			return err
		}
		for _, a := range list {
			w.add(attached{Form: evidence.Form{Header: a.Header, Query: a.Query}, value: a.Value.Reveal(), sign: a.Sign})
		}
	}
	for _, header := range w.Target.Server.Headers {
		name, value, _ := strings.Cut(header, ":")
		if name = http.CanonicalHeaderKey(strings.TrimSpace(name)); name == "Authorization" ||
			strings.Contains(strings.ToLower(name), "key") ||
			strings.Contains(strings.ToLower(name), "token") {
			w.add(attached{Form: evidence.Form{Header: name}, value: strings.TrimPrefix(value, " ")})
		}
	}
	return nil
}

func (w *way) add(a attached) {
	w.forms = append(w.forms, a)
	if a.sign != nil {
		return
	}
	w.Learn(a.value, evidence.Clean(a.value))
	form := a.Form
	if form.Header == "" && form.Query == "" {
		return
	}
	c := evidence.InspectCredential(form, "", a.value)
	w.Evidence.Credentials = append(w.Evidence.Credentials, c)
}

// apply puts credentials into a request. The names of the headers are returned.
func apply(forms []attached, req *http.Request) (names []string) {
	for _, a := range forms {
		switch {
		case a.sign != nil:
			if value, err := a.sign(req.Method, req.URL.String()); err == nil {
				req.Header.Set(a.Header, value)
			}
		case a.Query != "":
			q := req.URL.Query()
			q.Set(a.Query, a.value)
			req.URL.RawQuery = q.Encode()
			names = append(names, "the parameter "+a.Query)
		case a.Header != "":
			req.Header.Set(a.Header, headerSafe(a.value))
			names = append(names, a.Header)
		}
	}
	return names
}

// headerSafe is a value as it can go into a header at all: without line breaks, which
// would end it.
func headerSafe(v string) string { return strings.NewReplacer("\r", "", "\n", "").Replace(v) }

// others are the forms in which servers usually read a credential, besides the one in
// which it was sent; named is a header that the server itself asks for.
func others(sent attached, named string) (list []attached) {
	bare := evidence.Clean(sent.value)
	if bare == "" {
		return nil
	}
	try := func(header, scheme string) {
		value := bare
		if scheme != "" {
			value = scheme + " " + bare
		}
		if http.CanonicalHeaderKey(header) == http.CanonicalHeaderKey(sent.Header) && value == sent.value {
			return
		}
		list = append(list, attached{Form: evidence.Form{Header: http.CanonicalHeaderKey(header), Scheme: scheme}, value: value})
	}
	if named != "" && !strings.EqualFold(named, "Authorization") {
		try(named, "")
	}
	try("Authorization", "Bearer")
	try("X-Api-Key", "")
	try("Authorization", "")
	try("Authorization", "Token")
	try("Api-Key", "")
	try("X-Auth-Token", "")
	try("Authorization", "ApiKey")
	return list
}

// cleaned is a credential in the form in which it was sent, without what does not belong
// to it; ok is false when there is nothing to clean.
func cleaned(a attached) (attached, bool) {
	bare := evidence.Clean(a.value)
	if bare == "" || a.sign != nil {
		return a, false
	}
	value := bare
	word, _, found := strings.Cut(strings.TrimSpace(a.value), " ")
	scheme := a.Scheme
	if scheme == "" && found && strings.EqualFold(a.Header, "Authorization") {
		scheme = word
	}
	if scheme != "" {
		value = scheme + " " + bare
	}
	if value == a.value {
		return a, false
	}
	a.value, a.Scheme = value, scheme
	return a, true
}

// elsewhere are the addresses at which servers usually answer, besides the one given.
func elsewhere(at *url.URL) (list []*url.URL) {
	path := strings.TrimRight(at.Path, "/")
	parent := path[:strings.LastIndex(path+"/", "/")]
	if i := strings.LastIndex(path, "/"); i >= 0 {
		parent = path[:i]
	}
	candidates := []string{
		"/mcp",
		path + "/mcp",
		parent + "/mcp",
		"/api/mcp",
		"/v1/mcp",
		path + "/",
		path,
		"/sse",
		path + "/sse",
		parent + "/sse",
		"/",
	}
	seen := map[string]bool{at.Path: true}
	for _, p := range candidates {
		if p == "" || seen[p] {
			continue
		}
		seen[p] = true
		there := *at
		there.Path, there.RawPath = p, ""
		list = append(list, &there)
	}
	return list
}

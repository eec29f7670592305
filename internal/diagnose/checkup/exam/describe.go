package exam

import (
	"crypto/x509"
	"fmt"
	"strings"

	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/locker"
)

// Describe makes a target of what a registration says, without keeping anything. What
// would keep the target from being reached is not refused but found, so only what cannot
// be read at all is an error: a *team.FieldError.
func Describe(in serverspec.Registration) (Target, error) {
	s := team.Server{
		Name: in.Name, URL: strings.TrimSpace(in.URL), Command: in.Command, Args: in.Args, Dir: in.Dir, Env: in.Env, SecretEnv: in.SecretEnv,
		ServerOptions: in.ServerOptions, Transport: in.Transport,
	}
	t := Target{Credential: link.Credential{Secret: locker.NewSecret(in.Token)}}
	switch {
	case s.URL == "" && s.Command == "":
		return t, &team.FieldError{Field: "url", Why: "is missing; give it, or a command"}
	case s.URL != "" && s.Command != "":
		return t, &team.FieldError{Field: "command", Why: "and url exclude each other; give one of them"}
	case s.Command != "":
		s.Transport = team.Stdio
	case s.Transport == "":
		s.Transport, t.Detect = team.StreamableHTTP, true
	case s.Transport != team.StreamableHTTP && s.Transport != team.EventStream:
		return t, &team.FieldError{Field: "transport", Why: "must be streamable-http or sse"}
	}
	for _, h := range s.Headers {
		if name, _, ok := strings.Cut(h, ":"); !ok || strings.TrimSpace(name) == "" || strings.ContainsAny(name, " \t") {
			return t, &team.FieldError{Field: "headers", Why: fmt.Sprintf("must be like Name: value, and %q is not", firstWord(h))}
		}
	}
	for _, e := range s.Env {
		if name, _, ok := strings.Cut(e, "="); !ok || name == "" {
			return t, &team.FieldError{Field: "env", Why: fmt.Sprintf("must be like NAME=value, and %q is not", firstWord(e))}
		}
	}
	if s.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(s.CA)) {
		return t, &team.FieldError{Field: "ca", Why: "holds no certificate in PEM"}
	}
	if len(s.Places) > 0 || in.Secret != "" || s.ClientKey != "" {
		return t, &team.FieldError{
			Field: "secret",
			Why:   "belongs to a registered server; give the value with --token, or as a header from a file",
		}
	}
	t.Server = s
	return t, nil
}

// firstWord is the part of a text that is no secret.
func firstWord(s string) string {
	word, _, _ := strings.Cut(s, " ")
	if len(word) > 20 {
		return word[:20] + "…"
	}
	return word
}

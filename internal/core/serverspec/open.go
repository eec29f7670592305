package serverspec

import (
	"fmt"
	"net/url"
	"strings"

	"bouncer/internal/core/looks"
	"bouncer/internal/core/team"
)

// Open reports a secret in what is kept in the open of a server; nil for none.
func Open(s team.Server) error { return checkOpen(s, "update") }

// checkOpen refuses secrets among what is kept and shown in the open: variables,
// headers, arguments and the address. The error names the command that seals it; verb is
// register or update.
func checkOpen(s team.Server, verb string) error {
	refuse := func(field, what, why, command string) error {
		return &team.FieldError{Field: field, Why: fmt.Sprintf(
			"has a secret in the open: %s (%s). Seal it: bouncer server %s %s %s; "+
				"or say that it is none: --plain", what, why, verb, s.Name, command,
		)}
	}
	for _, e := range s.Env {
		name, value, _ := strings.Cut(e, "=")
		if why := looks.Secret(name, value); why != "" {
			return refuse("env", "the variable "+name, why, "--secret-env "+name+" --token")
		}
	}
	for _, h := range s.Headers {
		name, value, _ := strings.Cut(h, ":")
		if why := looks.Secret(name, value); why != "" {
			return refuse("headers", "the header "+name, why, "--secret-header "+name+" --token")
		}
	}
	for i, arg := range s.Args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok && i > 0 && strings.HasPrefix(s.Args[i-1], "-") {
			name, value = s.Args[i-1], arg
		}
		if why := looks.Secret(strings.TrimLeft(name, "-"), value); why != "" {
			return refuse("args", "the argument "+name, why, "--secret-env VARIABLE --token, if the program reads a variable for it")
		}
	}
	return checkOpenURL(s.URL, refuse)
}

// checkOpenURL looks at an address; what is none is said elsewhere.
func checkOpenURL(raw string, refuse func(field, what, why, command string) error) error {
	if at, err := url.Parse(raw); err == nil {
		if _, set := at.User.Password(); set {
			return refuse("url", "the password before the host", "it is one", "--also basic:=SECRET")
		}
		for name, list := range at.Query() {
			if why := looks.Secret(name, list[0]); why != "" {
				return refuse("url", "the parameter "+name, why, "--also query:"+name+"=SECRET")
			}
		}
	}
	return nil
}

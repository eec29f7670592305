// Package serverspec turns what somebody says of a tool server (a Registration, a
// ServerPatch, an OpenAPI document) into a described and checked team.Server. It
// reaches nothing: whether the server is there is found out by those who dial it.
package serverspec

import (
	"fmt"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/team"
)

// NamedSecrets are the secrets that a server's settings name, but for those that the
// store keeps as references.
func NamedSecrets(s team.Server) []string {
	var out []string
	for _, p := range s.Places {
		out = append(out, p.Secret)
	}
	if s.SignIn != nil {
		out = append(out, s.SignIn.ClientSecret, s.SignIn.SigningKey, s.SignIn.Assertion)
	}
	return slices.DeleteFunc(out, func(n string) bool { return n == "" })
}

// Registration is a server to be registered.
type Registration struct {
	Name   string `json:"name"`
	URL    string `json:"url,omitempty" doc:"address of the MCP endpoint"`
	Token  string `json:"token,omitempty" doc:"bearer token, or value of the variable secretEnv, to be stored for it"`
	Secret string `json:"secret,omitempty" doc:"name of a stored secret to be given to it instead"`
	Anyway bool   `json:"anyway,omitempty" doc:"register it even when it cannot be reached now"`
	Plain  bool   `json:"plain,omitempty" doc:"keep values in the open though they look like secrets"`

	Command   string   `json:"command,omitempty" doc:"instead of url: a local process, as a name in PATH or an absolute path"`
	Args      []string `json:"args,omitempty" doc:"its arguments"`
	Dir       string   `json:"dir,omitempty" doc:"its working directory, an absolute path"`
	Env       []string `json:"env,omitempty" doc:"its variables, as NAME=value; it gets PATH, HOME, LANG, TMPDIR and TZ besides"`
	SecretEnv string   `json:"secretEnv,omitempty" doc:"the variable that carries the token or the secret"`

	Transport   string `json:"transport,omitempty" enum:"streamable-http,sse" doc:"of the url; found out when it is left out"`
	Document    string `json:"document,omitempty" doc:"OpenAPI document (3.0 or 3.1, JSON or YAML) of a REST API, as text"`
	DocumentURL string `json:"documentURL,omitempty" doc:"address of the OpenAPI document instead"`
	team.ServerOptions
}

// ServerPatch is what can be altered of a server; nil fields stay.
type ServerPatch struct {
	URL    *string `json:"url,omitempty"`
	Paused *bool   `json:"paused,omitempty"`
	Token  *string `json:"token,omitempty" doc:"a new bearer token; tried before it is stored"`
	Anyway bool    `json:"anyway,omitempty" doc:"alter it even when it cannot be reached that way"`
	Plain  bool    `json:"plain,omitempty" doc:"keep values in the open though they look like secrets"`

	Command   *string   `json:"command,omitempty" doc:"another program of a local process"`
	Args      *[]string `json:"args,omitempty" doc:"all its arguments"`
	Dir       *string   `json:"dir,omitempty" doc:"another working directory; empty for none"`
	Env       *[]string `json:"env,omitempty" doc:"all its variables, as NAME=value"`
	SecretEnv *string   `json:"secretEnv,omitempty" doc:"another variable that carries the secret"`
	Transport *string   `json:"transport,omitempty" enum:"streamable-http,sse" doc:"of an address"`

	Headers      *[]string `json:"headers,omitempty" doc:"all further headers, as Name: value"`
	SecretHeader *string   `json:"secretHeader,omitempty" doc:"another header that carries the secret as it is; empty for a bearer token"`
	SecretQuery  *string   `json:"secretQuery,omitempty" doc:"of a REST API: another query parameter that carries the secret; empty for none"`
	CA           *string   `json:"ca,omitempty" doc:"other certificate authorities (PEM); empty for none"`
	ClientCert   *string   `json:"clientCert,omitempty" doc:"another client certificate (PEM); empty for none"`
	ClientKey    *string   `json:"clientKey,omitempty" doc:"name of the secret with its key"`

	MemoryMiB   *int               `json:"memoryMiB,omitempty" doc:"0 for no limit"`
	OpenFiles   *int               `json:"openFiles,omitempty" doc:"0 for no limit"`
	Processes   *int               `json:"processes,omitempty" doc:"0 for no limit"`
	CallSeconds *int               `json:"callSeconds,omitempty" doc:"how long a call may take; 0 for the setting call-timeout"`
	ResultKiB   *int               `json:"resultKiB,omitempty" doc:"largest result of a tool; 0 for as large as a message may be"`
	TooLarge    *string            `json:"tooLarge,omitempty" enum:"cut,refuse"`
	ToolLimits  *[]team.ToolLimits `json:"toolLimits,omitempty" doc:"all limits for some of its tools"`
	// StartSeconds is of a local process.
	StartSeconds *int `json:"startSeconds,omitempty" doc:"how long it may take to open a conversation; 0 for 30 s of silence"`

	Placement *string `json:"placement,omitempty" doc:"of a local process, in a cluster: everywhere, one, or label:NAME"`

	MessageMiB *int `json:"messageMiB,omitempty" doc:"largest message that is taken from it; 0 for the setting message-limit"`

	Sharing     *string           `json:"sharing,omitempty" enum:"auto,shared,private"`
	Document    *string           `json:"document,omitempty" doc:"another OpenAPI document of a REST API"`
	DocumentURL *string           `json:"documentURL,omitempty" doc:"address of another OpenAPI document instead"`
	Operations  *[]team.Operation `json:"operations,omitempty" doc:"of a REST API: all operations that are tools"`
	Per         *string           `json:"per,omitempty" enum:"team,person,agent"`
	Secret      *string           `json:"secret,omitempty" doc:"name of another stored secret to be given to it; empty for none"`
	Places      *[]team.Place     `json:"places,omitempty" doc:"all further secrets"`
	SignIn      *team.SignInWay   `json:"signIn,omitempty" doc:"how a grant is come by; an empty object for none"`
	// TakeIssuer is how a maintainer confirms that the authorization server is another
	// one.
	TakeIssuer bool `json:"takeIssuer,omitempty" doc:"keep to the authorization server that the server names from now on, though it is another one than before"`
	// PrivateRanges are for admins: what a server names is reached there.
	PrivateRanges *[]string `json:"privateRanges,omitempty" doc:"all private address ranges in which its authorization server may be; kept by admins"`

	Version *int `json:"version,omitempty" doc:"the version that was read; without it the newest is altered"`
}

// Apply returns a server as a patch alters it. The error is a *team.FieldError or
// an *OperationsError.
func Apply(s team.Server, p ServerPatch) (team.Server, error) {
	before := s.URL
	if p.URL != nil {
		if s.Transport == team.Stdio {
			return s, &team.FieldError{Field: "url", Why: "does not go with a local process"}
		}
		var err error
		if s.URL, err = endpoint.CheckURL(*p.URL); err != nil {
			return s, err
		}
	}
	if s.Transport != team.Stdio && (p.Command != nil || p.Args != nil || p.Dir != nil || p.Env != nil || p.SecretEnv != nil) {
		return s, &team.FieldError{Field: "command", Why: "and what belongs to it do not go with an address"}
	}
	if p.Transport != nil && (*p.Transport != team.StreamableHTTP && *p.Transport != team.EventStream ||
		s.Transport != team.StreamableHTTP && s.Transport != team.EventStream) {
		return s, &team.FieldError{Field: "transport", Why: "must be streamable-http or sse, of a server at an address"}
	}
	set(&s.Paused, p.Paused)
	set(&s.Sharing, p.Sharing)
	set(&s.Transport, p.Transport)
	p.process(&s)
	p.options(&s.ServerOptions)
	if (p.Document != nil || p.Operations != nil) && s.Transport != team.REST {
		return s, &team.FieldError{Field: "operations", Why: "belong to a REST API"}
	}
	if p.Document != nil {
		s.Document = *p.Document
	}
	if p.Operations != nil {
		s.Operations = *p.Operations
	}
	if s.Transport == team.REST {
		if err := describeREST(&s, ""); err != nil {
			return s, err
		}
	}
	if p.Per != nil {
		s.Per = *p.Per
	}
	if p.Places != nil {
		s.Places = *p.Places
	}
	if p.SignIn != nil {
		s.SignIn = p.SignIn
		if *p.SignIn == (team.SignInWay{}) {
			s.SignIn = nil
		} else {
			s.Secret = ""
		}
	}
	if p.Secret != nil {
		s.Secret = *p.Secret
	}
	if p.TakeIssuer || p.SignIn != nil || s.URL != before {
		s.Issuer = ""
	}
	if s.Transport == team.Stdio {
		if err := checkProcess(s); err != nil {
			return s, err
		}
	}
	if !p.Plain && p.opens() {
		if err := checkOpen(s, "update"); err != nil {
			return s, err
		}
	}
	return s, CheckOptions(s)
}

// opens reports whether the patch alters something that is kept in the open.
func (p ServerPatch) opens() bool {
	return p.Env != nil || p.Headers != nil || p.Args != nil || p.URL != nil
}

// set takes over a value that is given.
func set[T any](to, from *T) {
	if from != nil {
		*to = *from
	}
}

func (p ServerPatch) process(s *team.Server) {
	set(&s.Command, p.Command)
	set(&s.Args, p.Args)
	set(&s.Dir, p.Dir)
	set(&s.Env, p.Env)
	set(&s.SecretEnv, p.SecretEnv)
}

func (p ServerPatch) options(o *team.ServerOptions) {
	set(&o.Headers, p.Headers)
	set(&o.SecretHeader, p.SecretHeader)
	set(&o.SecretQuery, p.SecretQuery)
	set(&o.CA, p.CA)
	set(&o.ClientCert, p.ClientCert)
	set(&o.ClientKey, p.ClientKey)
	set(&o.MemoryMiB, p.MemoryMiB)
	set(&o.OpenFiles, p.OpenFiles)
	set(&o.Processes, p.Processes)
	set(&o.CallSeconds, p.CallSeconds)
	set(&o.ResultKiB, p.ResultKiB)
	set(&o.TooLarge, p.TooLarge)
	set(&o.ToolLimits, p.ToolLimits)
	set(&o.MessageMiB, p.MessageMiB)
	set(&o.StartSeconds, p.StartSeconds)
	set(&o.Placement, p.Placement)
	set(&o.PrivateRanges, p.PrivateRanges)
}

// Reaches reports whether the patch alters how the server is reached, so that it has to
// be tried before it is in force.
func (p ServerPatch) Reaches() bool {
	return p.URL != nil || p.Token != nil || p.Secret != nil || p.Places != nil || p.SignIn != nil || p.TakeIssuer ||
		p.Command != nil || p.Args != nil || p.Dir != nil || p.Env != nil || p.SecretEnv != nil || p.Transport != nil ||
		p.Headers != nil || p.SecretHeader != nil || p.SecretQuery != nil || p.CA != nil || p.ClientCert != nil || p.ClientKey != nil ||
		p.MemoryMiB != nil || p.OpenFiles != nil || p.Processes != nil || p.Placement != nil
}

// Elsewhere reports whether what people gave for the server as it was would go to
// something else now: another address, or another program.
func Elsewhere(before, after team.Server) bool {
	return before.URL != after.URL || before.Command != after.Command || before.Dir != after.Dir ||
		!slices.Equal(before.Args, after.Args) ||
		!slices.Equal(before.Env, after.Env)
}

func SameOrigin(a, b string) bool {
	x, err1 := url.Parse(a)
	y, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && x.Scheme == y.Scheme && x.Host == y.Host
}

func Summary(s team.Server) string {
	at := s.URL
	if s.Transport == team.Stdio {
		at = s.Command // its arguments are for those who keep servers
	}
	return fmt.Sprintf("%s, secret %q, paused %v", at, s.Secret, s.Paused)
}

// Describe checks what a registration says of the server itself.
func Describe(r Registration, id string, now time.Time) (team.Server, error) {
	s := team.Server{
		ID:        id,
		Name:      r.Name,
		Transport: team.StreamableHTTP,
		Created:   now,
		Command:   r.Command,
		Args:      r.Args,
		Dir:       r.Dir,
		Env:       r.Env,
		SecretEnv: r.SecretEnv,
		Document:  r.Document, ServerOptions: r.ServerOptions,
	}
	if s.Sharing == "" {
		s.Sharing = team.SharingAuto
	}
	switch {
	case r.Command != "":
		s.Transport = team.Stdio
	case r.Document != "":
		s.Transport = team.REST
	case r.Transport == team.EventStream:
		s.Transport = team.EventStream
	case r.Transport != "" && r.Transport != team.StreamableHTTP:
		return s, &team.FieldError{Field: "transport", Why: "must be streamable-http or sse, or be left out to be found out"}
	}
	if err := CheckOptions(s); err != nil {
		return s, err
	}
	if !r.Plain {
		open := s
		open.URL = r.URL
		if err := checkOpen(open, "register"); err != nil {
			return s, err
		}
	}
	if r.Command == "" {
		if len(r.Args)+len(r.Env) > 0 || r.Dir != "" || r.SecretEnv != "" {
			return s, &team.FieldError{Field: "command", Why: "is missing; arguments, a directory and variables belong to a command"}
		}
		if s.Transport == team.REST {
			s.URL = r.URL
			if r.Token != "" || r.Secret != "" {
				s.Secret = "given" // until its name is known; the document says where it goes
			}
			return s, describeREST(&s, r.DocumentURL)
		}
		var err error
		s.URL, err = endpoint.CheckURL(r.URL)
		return s, err
	}
	bad := func(field, why string) (team.Server, error) { return s, &team.FieldError{Field: field, Why: why} }
	switch {
	case r.URL != "":
		return bad("url", "and command exclude each other; a server has an address or is a command")
	case r.SecretEnv == "" && (r.Token != "" || r.Secret != ""):
		return bad("secretEnv", "is missing; name the variable that carries the secret")
	case r.SecretEnv != "" && r.Token == "" && r.Secret == "":
		return bad("token", "is missing; the variable "+r.SecretEnv+" has no value")
	}
	return s, checkProcess(s)
}

// checkProcess checks what is said of a local process.
func checkProcess(s team.Server) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	switch {
	case s.Command == "" || len(s.Command) > 1000 || strings.ContainsAny(s.Command, "\x00\n"):
		return bad("command", "is no command; give the name or the absolute path of a program")
	case len(s.Args) > 100 || len(strings.Join(s.Args, "")) > 32<<10:
		return bad("args", "are more than 100, or longer than 32 KiB in all")
	case strings.Contains(strings.Join(s.Args, ""), "\x00"):
		return bad("args", "have a zero byte, which no argument can carry")
	case s.Dir != "" && !filepath.IsAbs(s.Dir):
		return bad("dir", "must be an absolute path")
	case len(s.Env) > 100:
		return bad("env", "has more than 100 variables")
	case s.SecretEnv != "" && !variable.MatchString(s.SecretEnv):
		return bad("secretEnv", "is no name of a variable, like BERTHS_KEY")
	}
	for _, e := range s.Env {
		name, value, ok := strings.Cut(e, "=")
		if !ok || !variable.MatchString(name) || strings.Contains(value, "\x00") || len(e) > 16<<10 {
			return bad("env", "must be variables like NAME=value")
		}
		if name == s.SecretEnv {
			return bad("env", "sets "+name+", which is to carry the secret")
		}
	}
	return nil
}

var variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

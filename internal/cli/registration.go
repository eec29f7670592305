package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

type tokenInput struct{ token, anyway, plain bool }

func (i *tokenInput) define(f *flag.FlagSet) {
	f.BoolVar(&i.token, "token", false, "give it a bearer token, read from a prompt or from standard input")
	f.BoolVar(&i.anyway, "anyway", false, "do it even when the server cannot be reached now")
	f.BoolVar(&i.plain, "plain", false, "keep values in the open though they look like secrets")
}

type restInput struct {
	sharing, document string
	operations        []string
}

func (i *restInput) define(f *flag.FlagSet) {
	f.StringVar(&i.document, "document", "", "OpenAPI document of a REST API: a `file`, - for standard input, or an address")
	f.Func("operation", "`ID` or ID=name of an operation that becomes a tool; may be given several times", func(v string) error {
		i.operations = append(i.operations, v)
		return nil
	})
	f.StringVar(&i.sharing, "sharing", "", "`auto`, shared, or private: a conversation of its own for every agent session")
}

type options struct {
	header, query, ca, cert, key string
	headers                      []string
	memory, files, processes     int
	placement                    string
	limits
	credentials
}

// limits are the flags for how long calls may take and what they may bring.
type limits struct {
	time     time.Duration
	result   int
	tooLarge string
	message  int
	start    time.Duration
	tools    []team.ToolLimits
}

func (l *limits) define(f *flag.FlagSet) {
	f.Var(span.Value{To: &l.time}, "call-time", "how `long` a call may take, like 90s; 0 for the setting call-timeout")
	f.IntVar(&l.result, "result-limit", 0, "largest result of a tool in `KiB`; 0 for as large as a message may be")
	f.StringVar(&l.tooLarge, "too-large", "", "`what` becomes of a larger result: cut or refuse")
	f.IntVar(&l.message, "message-limit", 0, "largest message that is taken from it in `MiB`; 0 for the setting message-limit")
	f.Var(span.Value{To: &l.start}, "start-time", "how `long` a command may take to open a conversation, like 2m; 0 for 30s of silence")
	f.Func(
		"tool-limit", "`GLOB:call-time=90s,result=64,too-large=cut`, other limits for some tools; may be given several times",
		func(v string) error {
			one, err := toolLimit(v)
			l.tools = append(l.tools, one)
			return err
		},
	)
}

// toolLimit reads the limits for some tools.
func toolLimit(v string) (l team.ToolLimits, err error) {
	at := strings.LastIndexByte(v, ':')
	if at < 1 {
		return l, fmt.Errorf("%q is not like list_*:call-time=90s,result=64", v)
	}
	l.Tool = v[:at]
	for _, pair := range strings.Split(v[at+1:], ",") {
		name, value, _ := strings.Cut(pair, "=")
		switch name {
		case "call-time":
			var d time.Duration
			d, err = span.Parse(value)
			l.CallSeconds = int(d.Seconds())
		case "result":
			l.ResultKiB, err = strconv.Atoi(value)
		case "too-large":
			l.TooLarge = value
		default:
			err = fmt.Errorf("%q is none of call-time, result and too-large", name)
		}
		if err != nil {
			return l, err
		}
	}
	return l, nil
}

type credentials struct {
	per, grant, scope, issuer, client, clientSecret, signing, assertion string
	places                                                              []team.Place
	inside                                                              []string
}

func (c *credentials) define(f *flag.FlagSet) {
	f.StringVar(&c.per, "per", "", "`whose` credential is used: team, person or agent; a more specific one always wins")
	f.StringVar(
		&c.grant,
		"sign-in",
		"",
		"`how` an OAuth grant is come by: code (somebody signs in with a browser), client (Bouncer's own credentials), workload (the platform it runs on vouches) or assertion (the identity provider vouches)",
	)
	f.StringVar(&c.scope, "scope", "", "`scopes` to ask for, with blanks between them; what the server says if left out")
	f.StringVar(&c.issuer, "issuer", "", "`address` of the only authorization server that the client id is for")
	f.StringVar(&c.client, "client-id", "", "`id` of a client registered by hand; without one Bouncer registers itself")
	f.StringVar(&c.clientSecret, "client-secret", "", "`name` of the stored secret with the client's secret")
	f.StringVar(&c.signing, "signing-key", "", "`name` of the stored secret with the private key for signed assertions")
	f.StringVar(&c.assertion, "assertion", "", "`name` of the stored secret with the platform's assertion, for workload")
	f.Func(
		"private-range",
		"private `range`, like 10.0.0.0/8, in which its authorization server may be, for admins; may be given several times",
		func(v string) error { c.inside = append(c.inside, v); return nil },
	)
	f.Func(
		"also",
		"`HOW:NAME=SECRET`, a further stored secret and where it goes, like header:X-Team=team-key, query:key=k, basic:=login, variable:HARBOUR_KEY=k, file:KEY_FILE=k; may be given several times",
		func(v string) error {
			where, secret, ok := strings.Cut(v, "=")
			how, name, ok2 := strings.Cut(where, ":")
			if !ok || !ok2 || secret == "" {
				return fmt.Errorf("%q is not like header:X-Team=team-key", v)
			}
			name, scheme, _ := strings.Cut(name, " ")
			c.places = append(c.places, team.Place{How: how, Name: name, Scheme: scheme, Secret: secret})
			return nil
		},
	)
}

func (c *credentials) signIn() *team.SignInWay {
	if c.grant == "" {
		return nil
	}
	return &team.SignInWay{
		Grant:        c.grant,
		Scope:        c.scope,
		Issuer:       c.issuer,
		ClientID:     c.client,
		ClientSecret: c.clientSecret,
		SigningKey:   c.signing,
		Assertion:    c.assertion,
	}
}

func (o *options) define(f *flag.FlagSet) {
	f.Func(
		"header",
		"`Name: value` that is sent with every request; may be given several times",
		func(v string) error { o.headers = append(o.headers, v); return nil },
	)
	f.StringVar(
		&o.header,
		"secret-header",
		"",
		"header (`name`) that carries the token or the secret as it is; without it, it is sent as a bearer token",
	)
	f.StringVar(&o.query, "secret-query", "", "query `parameter` of a REST API that carries the token or the secret")
	f.StringVar(&o.ca, "ca", "", "`file` with certificate authorities (PEM) to trust for it")
	f.StringVar(&o.cert, "client-cert", "", "`file` with the client certificate (PEM) to show to it")
	f.StringVar(&o.key, "client-key", "", "`name` of the stored secret with the key of the client certificate")
	f.IntVar(&o.memory, "memory", 0, "`MiB` of memory that a command may use, with all it starts")
	f.IntVar(&o.files, "open-files", 0, "`number` of files that each process of a command may have open")
	o.credentials.define(f)
	o.limits.define(f)
	f.IntVar(&o.processes, "processes", 0, "`number` of processes that a command may be")
	f.StringVar(&o.placement, "placement", "", "`where` a command runs in a cluster: everywhere, one, or label:NAME")
}

func (o *options) fill(t *task, in *team.ServerOptions) error {
	in.Per, in.Places, in.SignIn, in.PrivateRanges = o.per, o.places, o.signIn(), o.inside
	in.Headers, in.SecretHeader, in.SecretQuery, in.ClientKey = o.headers, o.header, o.query, o.key
	in.MemoryMiB, in.OpenFiles, in.Processes, in.Placement = o.memory, o.files, o.processes, o.placement
	in.CallSeconds, in.ResultKiB, in.TooLarge = int(o.time.Seconds()), o.result, o.tooLarge
	in.ToolLimits, in.MessageMiB, in.StartSeconds = o.tools, o.message, int(o.start.Seconds())
	for to, path := range map[*string]string{&in.CA: o.ca, &in.ClientCert: o.cert} {
		if path == "" {
			continue
		}
		var err error
		if *to, err = t.file(path); err != nil {
			return err
		}
	}
	return nil
}

const maxFile = 8 << 20

func (t *task) file(path string) (string, error) {
	unreadable := &usageError{fmt.Sprintf("the file %s cannot be read", path), "check its name and permissions"}
	in := t.In
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return "", unreadable
		}
		defer f.Close()
		in = f
	}
	raw, err := io.ReadAll(io.LimitReader(in, maxFile+1))
	if err != nil {
		return "", unreadable
	}
	if len(raw) > maxFile {
		return "", &usageError{fmt.Sprintf("the file %s is larger than %d MiB", path, maxFile>>20), "give a smaller one"}
	}
	return string(raw), nil
}

func (t *task) document(from string) (text, address string, err error) {
	if strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://") {
		return "", from, nil
	}
	text, err = t.file(from)
	return text, "", err
}

func picks(list []string) []team.Operation {
	out := []team.Operation{}
	for _, s := range list {
		id, name, _ := strings.Cut(s, "=")
		out = append(out, team.Operation{ID: id, Name: name})
	}
	return out
}

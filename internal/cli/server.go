package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

type serverInfo struct {
	team.Server
	Health team.Health `json:"health"`
}

// tokenInput says that a token is read, and how sure it has to be.
type tokenInput struct{ token, anyway bool }

func (i *tokenInput) define(f *flag.FlagSet) {
	f.BoolVar(&i.token, "token", false, "give it a bearer token, read from a prompt or from standard input")
	f.BoolVar(&i.anyway, "anyway", false, "do it even when the server cannot be reached now")
}

// restInput is what is said of a REST API, and of the sharing of any server.
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

func serverCommands() []command {
	return []command{
		serverListCommand(),
		serverShowCommand(),
		serverRegisterCommand(),
		serverUpdateCommand(),
		serverCheckCommand(),
		serverToolsCommand(),
		serverOperationsCommand(),
		serverEditionsCommand(),
		serverPatch("pause", "Take a server out of every agent's reach", true),
		serverPatch("resume", "Put a paused server back", false),
		serverRemoveCommand(),
	}
}

func serverPatch(verb, short string, paused bool) command {
	return command{
		noun:    "server",
		verb:    verb,
		args:    "NAME",
		short:   short,
		example: "bouncer server " + verb + " sailings",
		run: func(ctx context.Context, t *task) error {
			return submit(
				ctx,
				t,
				http.MethodPatch,
				"/api/servers/"+seg(t.args[0]),
				map[string]bool{"paused": paused},
				func(s serverInfo) error {
					return t.done("server %s is %s", s.Name, s.Health.State)
				},
			)
		},
	}
}

func serverListCommand() command {
	return command{
		noun: "server", verb: "list", short: "List the servers and how they are doing", example: "bouncer server list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/servers", func(list []serverInfo) error {
				if len(list) == 0 {
					return t.done("no servers yet; register one with: bouncer server register NAME --url URL")
				}
				var rows [][]string
				for _, s := range list {
					note := ""
					if s.Health.Finding != nil {
						note = s.Health.Finding.Message
					}
					rows = append(
						rows,
						[]string{
							s.Name,
							s.Health.State,
							strconv.Itoa(s.Health.Tools),
							s.Health.Revision,
							s.Transport,
							clip(s.address(), 60),
							s.Secret,
							note,
						},
					)
				}
				return t.table(
					[]string{"NAME", "STATE", "TOOLS", "REVISION", "TRANSPORT", "ADDRESS OR COMMAND", "SECRET", "NOTE"},
					rows,
				)
			})
		},
	}
}

func serverShowCommand() command {
	return command{
		noun: "server", verb: "show", args: "NAME", short: "Show one server in full", example: "bouncer server show sailings",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0]), func(s serverInfo) error { return t.showServer(s) })
		},
	}
}

func serverRegisterCommand() command {
	var url, secret, dir, secretEnv, transport string
	var env []string
	var more options
	var given tokenInput
	var rest restInput
	return command{
		noun: "server", verb: "register", args: "NAME", rest: "COMMAND ARGUMENTS...", short: "Reach a server, list its tools, and register it",
		long: "A server has an address (--url), is a command that is started where the service\nruns and spoken with over its standard input and output (after --), or is a REST\nAPI with an OpenAPI document (--document).\n" +
			"Which transport and revision an address speaks is found out. Of a REST API the\noperations that become tools are picked with --operation; without one, they are\nlisted.\n" +
			"With --token a bearer token is asked for, or read from standard input; it never\nstands on the command line, is encrypted at rest, and is not shown again. For a\ncommand, --secret-env names the variable that carries it.",
		example: "bouncer server register sailings --url http://127.0.0.1:4701/mcp --token < token.txt\n" +
			"bouncer server register berths --secret-env BERTHS_KEY --token -- /opt/skerrow/berths --verbose < key.txt\n" +
			"bouncer server register lost-property --document openapi.yaml --operation searchItems --operation logItem=log_item --token < key.txt",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&url, "url", "", "`address` of the MCP endpoint")
			f.StringVar(&secret, "secret", "", "`name` of a stored secret to give to it")
			f.StringVar(&dir, "dir", "", "working `directory` of a command")
			f.StringVar(&secretEnv, "secret-env", "", "`variable` of a command that carries the token or the secret")
			f.Func(
				"env",
				"`NAME=value` that a command gets; may be given several times",
				func(v string) error { env = append(env, v); return nil },
			)
			f.StringVar(&transport, "transport", "", "streamable-http or sse, where it is not to be found out (`name`)")
			rest.define(f)
			more.define(f)
			given.define(f)
		},
		run: func(ctx context.Context, t *task) error {
			in := map[string]any{"name": t.args[0], "url": url, "anyway": given.anyway, "transport": transport, "sharing": rest.sharing}
			if url == "" && len(t.rest) == 0 && rest.document == "" {
				return &usageError{
					"the flag --url is missing, or --document, or a command after --",
					"as in: bouncer server register sailings --url http://127.0.0.1:4701/mcp",
				}
			}
			if err := more.fill(t, in); err != nil {
				return err
			}
			if rest.document != "" {
				key, text, err := t.document(rest.document)
				if err != nil {
					return err
				}
				in[key], in["operations"] = text, picks(rest.operations)
			} else if len(rest.operations) > 0 {
				return &usageError{"--operation belongs to a REST API", "give its document with --document"}
			}
			if len(t.rest) > 0 {
				in["command"], in["args"], in["dir"], in["env"], in["secretEnv"] = t.rest[0], t.rest[1:], dir, env, secretEnv
			} else if dir != "" || secretEnv != "" || len(env) > 0 {
				return &usageError{"--dir, --env and --secret-env belong to a command", "give the command after --"}
			}
			if secret != "" {
				in["secret"] = secret
			}
			if given.token {
				v, err := t.secret("Token for " + t.args[0])
				if err != nil {
					return err
				}
				in["token"] = v
			}
			return t.reach(ctx, http.MethodPost, "/api/servers", in, "registered")
		},
	}
}

func serverUpdateCommand() command {
	var url, secret string
	var more options
	var given tokenInput
	var rest restInput
	return command{
		noun: "server", verb: "update", args: "NAME", short: "Alter a server's address, token, sharing or operations",
		long:    "The server is reached that way first; what does not work is not stored. With\n--operation all operations that are to be tools are given anew.",
		example: "bouncer server update sailings --token < token.txt",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&url, "url", "", "new `address` of the MCP endpoint")
			f.StringVar(&secret, "secret", "", "`name` of another stored secret to give to it")
			rest.define(f)
			more.credentials.define(f)
			given.define(f)
		},
		run: func(ctx context.Context, t *task) error {
			in := map[string]any{"anyway": given.anyway}
			if t.given["url"] {
				in["url"] = url
			}
			if t.given["sharing"] {
				in["sharing"] = rest.sharing
			}
			if len(rest.operations) > 0 {
				in["operations"] = picks(rest.operations)
			}
			if rest.document != "" {
				key, text, err := t.document(rest.document)
				if err != nil {
					return err
				}
				if key != "document" {
					return &usageError{"a document is replaced by a file", "fetch it first, and give the file"}
				}
				in[key] = text
			}
			if given.token {
				v, err := t.secret("New token for " + t.args[0])
				if err != nil {
					return err
				}
				in["token"] = v
			}
			more.credentials.fill(in)
			if t.given["secret"] {
				in["secret"] = secret
			}
			if len(in) == 1 {
				return &usageError{
					"nothing is to be altered",
					"give --url, --token, --secret, --per, --sign-in, --sharing, --operation or --document",
				}
			}
			return t.reach(ctx, http.MethodPatch, "/api/servers/"+seg(t.args[0]), in, "updated")
		},
	}
}

func serverCheckCommand() command {
	return command{
		noun:    "server",
		verb:    "check",
		args:    "NAME",
		short:   "Reach a server again, from the beginning",
		example: "bouncer server check sailings",
		run: func(ctx context.Context, t *task) error {
			var s serverInfo
			if err := t.client.do(ctx, http.MethodPost, "/api/servers/"+seg(t.args[0])+"/check", nil, &s); err != nil {
				return err
			}
			show := t.showServer
			if t.json {
				show = func(s serverInfo) error { return t.writeJSON(s) }
			}
			if err := show(s); err != nil || s.Health.Finding == nil {
				return err
			}
			return &failure{exitNoServer, s.Name + " cannot be reached: " + s.Health.Finding.Message, s.Health.Finding.Remedy}
		},
	}
}

func serverToolsCommand() command {
	return command{
		noun: "server", verb: "tools", args: "NAME", short: "List a server's tools", example: "bouncer server tools sailings",
		run: func(ctx context.Context, t *task) error {
			type tool struct {
				Name        string `json:"name"`
				Title       string `json:"title"`
				Description string `json:"description"`
				ReadOnly    bool   `json:"readOnly"`
				Destructive bool   `json:"destructive"`
				Schema      any    `json:"schema"`
			}
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/tools", func(list []tool) error {
				var rows [][]string
				for _, x := range list {
					rows = append(rows, []string{x.Name, hints(x.ReadOnly, x.Destructive), clip(x.Description, 80)})
				}
				return t.table([]string{"TOOL", "SAYS", "DESCRIPTION"}, rows)
			})
		},
	}
}

func serverOperationsCommand() command {
	return command{
		noun:    "server",
		verb:    "operations",
		args:    "NAME",
		short:   "List the operations of a REST API, with those that are tools",
		example: "bouncer server operations lost-property",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/operations", t.showOperations)
		},
	}
}

func serverEditionsCommand() command {
	return command{
		noun:    "server",
		verb:    "editions",
		args:    "NAME",
		short:   "List the recorded states of a server's tool list",
		example: "bouncer server editions sailings",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/editions", func(list []team.Edition) error {
				if len(list) == 0 {
					return t.done("no tool list was seen yet; bouncer server check %s reaches it", t.args[0])
				}
				var rows [][]string
				for _, e := range list {
					rows = append(
						rows,
						[]string{
							clock(e.At),
							e.Digest[:12],
							strconv.Itoa(e.Tools),
							clip(strings.Join(e.Added, " "), 60),
							clip(strings.Join(e.Removed, " "), 40),
							clip(strings.Join(e.Changed, " "), 40),
						},
					)
				}
				return t.table([]string{"SEEN", "EDITION", "TOOLS", "ADDED", "REMOVED", "CHANGED"}, rows)
			})
		},
	}
}

func serverRemoveCommand() command {
	return command{
		noun: "server", verb: "remove", args: "NAME", short: "Remove a server; its secret stays", example: "bouncer server remove sailings",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.do(ctx, http.MethodDelete, "/api/servers/"+seg(t.args[0]), nil, nil); err != nil {
				return err
			}
			return t.done("server %s is removed", t.args[0])
		},
	}
}

// options are the flags of a registration that most servers need none of.
type options struct {
	header, query, ca, cert, key string
	headers                      []string
	memory, files, processes     int
	credentials
}

// credentials are the flags that say whose credential a server takes, and how it
// is come by.
type credentials struct {
	per, grant, scope, issuer, client, clientSecret, signing, assertion string
	places                                                              []map[string]string
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
		"also",
		"`HOW:NAME=SECRET`, a further stored secret and where it goes, like header:X-Team=team-key, query:key=k, basic:=login, variable:HARBOUR_KEY=k, file:KEY_FILE=k; may be given several times",
		func(v string) error {
			where, secret, ok := strings.Cut(v, "=")
			how, name, ok2 := strings.Cut(where, ":")
			if !ok || !ok2 || secret == "" {
				return fmt.Errorf("%q is not like header:X-Team=team-key", v)
			}
			name, scheme, _ := strings.Cut(name, " ")
			c.places = append(c.places, map[string]string{"how": how, "name": name, "scheme": scheme, "secret": secret})
			return nil
		},
	)
}

func (c *credentials) fill(in map[string]any) {
	if c.per != "" {
		in["per"] = c.per
	}
	if len(c.places) > 0 {
		in["places"] = c.places
	}
	if c.grant != "" {
		in["signIn"] = map[string]string{
			"grant":        c.grant,
			"scope":        c.scope,
			"issuer":       c.issuer,
			"clientId":     c.client,
			"clientSecret": c.clientSecret,
			"signingKey":   c.signing,
			"assertion":    c.assertion,
		}
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
	f.IntVar(&o.processes, "processes", 0, "`number` of processes that a command may be")
}

func (o *options) fill(t *task, in map[string]any) error {
	o.credentials.fill(in)
	for _, row := range []struct {
		key   string
		value any
		given bool
	}{
		{"headers", o.headers, len(o.headers) > 0},
		{"secretHeader", o.header, o.header != ""},
		{"secretQuery", o.query, o.query != ""},
		{"clientKey", o.key, o.key != ""},
		{"memoryMiB", o.memory, o.memory != 0}, {"openFiles", o.files, o.files != 0}, {"processes", o.processes, o.processes != 0},
	} {
		if row.given {
			in[row.key] = row.value
		}
	}
	for key, path := range map[string]string{"ca": o.ca, "clientCert": o.cert} {
		if path == "" {
			continue
		}
		raw, err := t.file(path)
		if err != nil {
			return err
		}
		in[key] = raw
	}
	return nil
}

// maxFile is the largest file that is sent to the service.
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

// document reads what --document names: the field of the registration that takes
// it, and its value.
func (t *task) document(from string) (field, value string, err error) {
	if strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://") {
		return "documentURL", from, nil
	}
	text, err := t.file(from)
	return "document", text, err
}

// picks reads operations as they are given on the command line.
func picks(list []string) []team.Operation {
	out := []team.Operation{}
	for _, s := range list {
		id, name, _ := strings.Cut(s, "=")
		out = append(out, team.Operation{ID: id, Name: name})
	}
	return out
}

// documentInfo is an OpenAPI document as the service describes it.
type documentInfo struct {
	Title, Version, Server string
	Operations             []struct {
		ID, Method, Path, Summary, Problem, Tool string
		ReadOnly, Destructive, Picked            bool
	}
}

func (t *task) showOperations(d documentInfo) error {
	var rows [][]string
	for _, o := range d.Operations {
		note := hints(o.ReadOnly, o.Destructive)
		if o.Problem != "" {
			note = "no tool: " + o.Problem
		}
		tool := o.Tool
		if tool == "" {
			tool = "-"
		}
		rows = append(rows, []string{o.ID, o.Method, clip(o.Path, 50), tool, note, clip(o.Summary, 60)})
	}
	return t.table([]string{"OPERATION", "METHOD", "PATH", "TOOL", "IS", "SUMMARY"}, rows)
}

// reach registers or alters a server and shows how reaching it went, step by
// step, whether it worked or not.
func (t *task) reach(ctx context.Context, method, path string, in any, did string) error {
	var s serverInfo
	told, err := t.client.try(ctx, method, path, in, &s)
	if err != nil {
		if told != nil && told.Document != nil && !t.json {
			fmt.Fprintf(t.Out, "%s %s has these operations:\n", told.Document.Title, told.Document.Version)
			if err := t.showOperations(*told.Document); err != nil {
				return err
			}
			return &usageError{
				"nothing was " + did + "; no operation is picked",
				"add --operation ID for each that is to be a tool, or --operation ID=name",
			}
		}
		if told != nil && told.Finding != nil && !t.json {
			t.showStages(told.Stages)
			var f *failure
			if errors.As(err, &f) {
				f.what = "nothing was " + did + "; " + f.what
				f.hint += fmt.Sprintf(" (cause %s; add --anyway to do it all the same)", told.Code)
			}
		}
		return err
	}
	if t.json {
		return t.writeJSON(s)
	}
	if err := t.done("%s is %s and %s", s.Name, did, s.Health.State); err != nil {
		return err
	}
	return t.showServer(s)
}

func (t *task) showServer(s serverInfo) error {
	h := s.Health
	rows := [][2]string{
		{"name", s.Name},
		{s.what(), s.address()},
		{"transport", s.Transport},
		{"sharing", s.Sharing},
		{"secret", s.Secret},
		{"credential", s.whose()},
		{"state", h.State + since(h.Since)},
		{"server says", strings.TrimSpace(h.ServerName + " " + h.ServerVersion)},
		{"revision", h.Revision},
		{"tools", strconv.Itoa(h.Tools)},
		{"prompts", strconv.Itoa(h.Prompts)},
		{"resources", strconv.Itoa(h.Resources)},
	}
	for _, o := range s.Operations {
		rows = append(rows, [2]string{"operation", strings.TrimSpace(o.ID + " " + o.Name)})
	}
	for _, x := range s.Headers {
		rows = append(rows, [2]string{"header", x})
	}
	for _, x := range []struct {
		what string
		n    int
	}{{"MiB of memory", s.MemoryMiB}, {"open files", s.OpenFiles}, {"processes", s.Processes}} {
		if x.n > 0 {
			rows = append(rows, [2]string{"at most", fmt.Sprintf("%d %s", x.n, x.what)})
		}
	}
	if h.Finding != nil {
		rows = append(
			rows,
			[2]string{"cause", string(h.Finding.Cause)},
			[2]string{"because", h.Finding.Message},
			[2]string{"what helps", h.Finding.Remedy},
			[2]string{"up to", h.Finding.Actor},
		)
	}
	if s.Command != "" {
		rows = append(
			rows,
			[2]string{"directory", s.Dir},
			[2]string{"variables", strings.Join(s.Env, " ")},
			[2]string{"secret in", s.SecretEnv},
		)
	}
	if h.Noise > 0 {
		rows = append(
			rows,
			[2]string{"noise", fmt.Sprintf("%d lines on standard output that are not the protocol; they are passed over", h.Noise)},
		)
	}
	for _, l := range h.LeftOut {
		rows = append(rows, [2]string{"left out", l})
	}
	for _, r := range rows {
		if r[1] == "" {
			r[1] = "-"
		}
		fmt.Fprintf(t.Out, "  %-12s %s\n", r[0], clip(r[1], 400))
	}
	t.showStages(h.Stages)
	for _, line := range strings.Split(strings.TrimSpace(h.Stderr), "\n") {
		if line != "" {
			fmt.Fprintf(t.Out, "  stderr       %s\n", clip(line, 200))
		}
	}
	return nil
}

// what and address say where a server is.
func (s serverInfo) what() string {
	if s.Command != "" {
		return "command"
	}
	return "url"
}

// whose says whose credential the server is reached with, where that is not
// simply the team's secret.
func (s serverInfo) whose() string {
	out := ""
	if w := s.SignIn; w != nil {
		out = map[string]string{
			"code":      "sign-in with a browser",
			"client":    "Bouncer's own credentials (OAuth)",
			"workload":  "the platform vouches for Bouncer",
			"assertion": "the identity provider vouches",
		}[w.Grant]
	}
	if s.Per != "" && s.Per != "team" {
		out = strings.TrimPrefix(out+", each "+s.Per+" their own", ", ")
	}
	for _, p := range s.Places {
		out = strings.TrimPrefix(out+", also "+p.How+" "+p.Name+" from secret "+p.Secret, ", ")
	}
	return out
}

func (s serverInfo) address() string {
	if s.Command != "" {
		return strings.Join(append([]string{s.Command}, s.Args...), " ")
	}
	return s.URL
}

func (t *task) showStages(stages []team.Stage) {
	for _, s := range stages {
		mark := "ok"
		if !s.OK {
			mark = "failed: " + s.Note
		}
		fmt.Fprintf(t.Out, "  %-12s %8.1f ms  %s\n", s.Name, s.Millis, mark)
	}
}

func hints(readOnly, destructive bool) string {
	switch {
	case destructive:
		return "destructive"
	case readOnly:
		return "read only"
	}
	return ""
}

// clip makes foreign text fit for one line.
func clip(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func since(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return " since " + clock(t)
}

func when(t *time.Time) string {
	if t == nil {
		return ""
	}
	return clock(*t)
}

package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/team"
)

type serverInfo struct {
	team.Server
	Health team.Health `json:"health"`
}

func serverCommands() []command {
	var url, secret, dir, secretEnv string
	var env []string
	var token, anyway bool
	tokenFlag := func(f *flag.FlagSet) {
		f.BoolVar(&token, "token", false, "give it a bearer token, read from a prompt or from standard input")
		f.BoolVar(&anyway, "anyway", false, "do it even when the server cannot be reached now")
	}
	patch := func(verb, short string, paused bool) command {
		return command{noun: "server", verb: verb, args: "NAME", short: short, example: "bouncer server " + verb + " sailings", run: func(ctx context.Context, t *task) error {
			return submit(ctx, t, http.MethodPatch, "/api/servers/"+seg(t.args[0]), map[string]bool{"paused": paused}, func(s serverInfo) error {
				return t.done("server %s is %s", s.Name, s.Health.State)
			})
		}}
	}
	return []command{
		{
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
						rows = append(rows, []string{s.Name, s.Health.State, strconv.Itoa(s.Health.Tools), s.Health.Revision, s.Transport, clip(s.address(), 60), s.Secret, note})
					}
					return t.table([]string{"NAME", "STATE", "TOOLS", "REVISION", "TRANSPORT", "ADDRESS OR COMMAND", "SECRET", "NOTE"}, rows)
				})
			},
		},
		{
			noun: "server", verb: "show", args: "NAME", short: "Show one server in full", example: "bouncer server show sailings",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/servers/"+seg(t.args[0]), func(s serverInfo) error { return t.showServer(s) })
			},
		},
		{
			noun: "server", verb: "register", args: "NAME", rest: "COMMAND ARGUMENTS...", short: "Reach a server, list its tools, and register it",
			long: "A server has an address (--url), or is a command that is started where the service\nruns and spoken with over its standard input and output (after --).\n" +
				"With --token a bearer token is asked for, or read from standard input; it never\nstands on the command line, is encrypted at rest, and is not shown again. For a\ncommand, --secret-env names the variable that carries it.",
			example: "bouncer server register sailings --url http://127.0.0.1:4701/mcp --token < token.txt\n" +
				"bouncer server register berths --secret-env BERTHS_KEY --token -- /opt/skerrow/berths --verbose < key.txt",
			flags: func(f *flag.FlagSet) {
				f.StringVar(&url, "url", "", "`address` of the MCP endpoint")
				f.StringVar(&secret, "secret", "", "`name` of a stored secret to give to it")
				f.StringVar(&dir, "dir", "", "working `directory` of a command")
				f.StringVar(&secretEnv, "secret-env", "", "`variable` of a command that carries the token or the secret")
				f.Func("env", "`NAME=value` that a command gets; may be given several times", func(v string) error { env = append(env, v); return nil })
				tokenFlag(f)
			},
			run: func(ctx context.Context, t *task) error {
				in := map[string]any{"name": t.args[0], "url": url, "anyway": anyway}
				if url == "" && len(t.rest) == 0 {
					return &usageError{"the flag --url is missing, or a command after --", "as in: bouncer server register sailings --url http://127.0.0.1:4701/mcp"}
				}
				if len(t.rest) > 0 {
					in["command"], in["args"], in["dir"], in["env"], in["secretEnv"] = t.rest[0], t.rest[1:], dir, env, secretEnv
				} else if dir != "" || secretEnv != "" || len(env) > 0 {
					return &usageError{"--dir, --env and --secret-env belong to a command", "give the command after --"}
				}
				if secret != "" {
					in["secret"] = secret
				}
				if token {
					v, err := t.secret("Token for " + t.args[0])
					if err != nil {
						return err
					}
					in["token"] = v
				}
				return t.reach(ctx, http.MethodPost, "/api/servers", in, "registered")
			},
		},
		{
			noun: "server", verb: "update", args: "NAME", short: "Alter a server's address or token",
			long:    "The server is reached that way first; what does not work is not stored.",
			example: "bouncer server update sailings --token < token.txt",
			flags: func(f *flag.FlagSet) {
				f.StringVar(&url, "url", "", "new `address` of the MCP endpoint")
				tokenFlag(f)
			},
			run: func(ctx context.Context, t *task) error {
				in := map[string]any{"anyway": anyway}
				if t.given["url"] {
					in["url"] = url
				}
				if token {
					v, err := t.secret("New token for " + t.args[0])
					if err != nil {
						return err
					}
					in["token"] = v
				}
				if len(in) == 1 {
					return &usageError{"nothing is to be altered", "give --url, --token or both"}
				}
				return t.reach(ctx, http.MethodPatch, "/api/servers/"+seg(t.args[0]), in, "updated")
			},
		},
		{
			noun: "server", verb: "check", args: "NAME", short: "Reach a server again, from the beginning", example: "bouncer server check sailings",
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
		},
		{
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
		},
		patch("pause", "Take a server out of every agent's reach", true),
		patch("resume", "Put a paused server back", false),
		{
			noun: "server", verb: "remove", args: "NAME", short: "Remove a server; its secret stays", example: "bouncer server remove sailings",
			run: func(ctx context.Context, t *task) error {
				if err := t.client.do(ctx, http.MethodDelete, "/api/servers/"+seg(t.args[0]), nil, nil); err != nil {
					return err
				}
				return t.done("server %s is removed", t.args[0])
			},
		},
	}
}

// reach registers or alters a server and shows how reaching it went, step by
// step, whether it worked or not.
func (t *task) reach(ctx context.Context, method, path string, in any, did string) error {
	var s serverInfo
	told, err := t.client.try(ctx, method, path, in, &s)
	if err != nil {
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
		{"name", s.Name}, {s.what(), s.address()}, {"transport", s.Transport}, {"secret", s.Secret}, {"state", h.State + since(h.Since)},
		{"server says", strings.TrimSpace(h.ServerName + " " + h.ServerVersion)}, {"revision", h.Revision}, {"tools", strconv.Itoa(h.Tools)},
	}
	if h.Finding != nil {
		rows = append(rows, [2]string{"cause", string(h.Finding.Cause)}, [2]string{"because", h.Finding.Message}, [2]string{"what helps", h.Finding.Remedy}, [2]string{"up to", h.Finding.Actor})
	}
	if s.Command != "" {
		rows = append(rows, [2]string{"directory", s.Dir}, [2]string{"variables", strings.Join(s.Env, " ")}, [2]string{"secret in", s.SecretEnv})
	}
	if h.Noise > 0 {
		rows = append(rows, [2]string{"noise", fmt.Sprintf("%d lines on standard output that are not the protocol; they are passed over", h.Noise)})
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

func secretCommands() []command {
	var anyway bool
	return []command{
		{
			noun: "secret", verb: "list", short: "List the secrets, without their values", example: "bouncer secret list",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/secrets", func(list []team.Secret) error {
					if len(list) == 0 {
						return t.done("no secrets yet; bouncer server register --token stores one")
					}
					var rows [][]string
					for _, s := range list {
						rows = append(rows, []string{s.Name, s.Kind, strings.Join(s.UsedBy, ", "), clock(s.Created), when(s.Rotated)})
					}
					return t.table([]string{"NAME", "KIND", "GIVEN TO", "CREATED", "ROTATED"}, rows)
				})
			},
		},
		{
			noun: "secret", verb: "add", args: "NAME", short: "Store a bearer token, read from a prompt or standard input", example: "bouncer secret add harbour-token < token.txt",
			run: func(ctx context.Context, t *task) error {
				v, err := t.secret("Value of " + t.args[0])
				if err != nil {
					return err
				}
				return submit(ctx, t, http.MethodPost, "/api/secrets", map[string]string{"name": t.args[0], "value": v}, func(s team.Secret) error {
					return t.done("secret %s is in the locker", s.Name)
				})
			},
		},
		{
			noun: "secret", verb: "rotate", args: "NAME", short: "Replace a secret's value, read from a prompt or standard input",
			long:    "The new value is tried on the servers that are given the secret first.",
			example: "bouncer secret rotate sailings-token < token.txt",
			flags: func(f *flag.FlagSet) {
				f.BoolVar(&anyway, "anyway", false, "store it even when a server does not take it")
			},
			run: func(ctx context.Context, t *task) error {
				v, err := t.secret("New value of " + t.args[0])
				if err != nil {
					return err
				}
				return submit(ctx, t, http.MethodPut, "/api/secrets/"+seg(t.args[0])+"/value", map[string]any{"value": v, "anyway": anyway}, func(s team.Secret) error {
					return t.done("secret %s has its new value, and its servers are given it from now on", s.Name)
				})
			},
		},
		{
			noun: "secret", verb: "remove", args: "NAME", short: "Remove a secret that no server is given", example: "bouncer secret remove harbour-token",
			run: func(ctx context.Context, t *task) error {
				if err := t.client.do(ctx, http.MethodDelete, "/api/secrets/"+seg(t.args[0]), nil, nil); err != nil {
					return err
				}
				return t.done("secret %s is removed", t.args[0])
			},
		},
	}
}

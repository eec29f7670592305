package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
)

// tokenInput says that a token is read, and how sure it has to be.
// restInput is what is said of a REST API, and of the sharing of any server.
func serverCommands() []command {
	return []command{
		serverListCommand(),
		serverShowCommand(),
		serverRegisterCommand(),
		serverUpdateCommand(),
		serverImportCommand(),
		serverCheckCommand(),
		serverLintCommand(),
		serverRestartCommand(),
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
				serverspec.ServerPatch{Paused: &paused},
				func(s apitype.ServerInfo) error {
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
			return fetch(ctx, t, "/api/servers", func(list []apitype.ServerInfo) error {
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
							clip(addressOf(s.Server), 60),
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
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0]), func(s apitype.ServerInfo) error { return t.view().showServer(s) })
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
		long: `A server has an address (--url), is a command that is started where the service
runs and spoken with over its standard input and output (after --), or is a REST
API with an OpenAPI document (--document).
Which transport and revision an address speaks is found out. Of a REST API the
operations that become tools are picked with --operation; without one, they are
listed.
With --token a bearer token is asked for, or read from standard input; it never
stands on the command line, is encrypted at rest, and is not shown again. For a
command, --secret-env names the variable that carries it.`,
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
			in := serverspec.Registration{Name: t.args[0], URL: url, Anyway: given.anyway, Transport: transport, Secret: secret,
				Plain: given.plain}
			in.Sharing = rest.sharing
			if url == "" && len(t.rest) == 0 && rest.document == "" {
				return &usageError{
					"the flag --url is missing, or --document, or a command after --",
					"as in: bouncer server register sailings --url http://127.0.0.1:4701/mcp",
				}
			}
			if err := more.fill(t, &in.ServerOptions); err != nil {
				return err
			}
			if rest.document != "" {
				var err error
				if in.Document, in.DocumentURL, err = t.document(rest.document); err != nil {
					return err
				}
				in.Operations = picks(rest.operations)
			} else if len(rest.operations) > 0 {
				return &usageError{"--operation belongs to a REST API", "give its document with --document"}
			}
			if len(t.rest) > 0 {
				in.Command, in.Args, in.Dir, in.Env, in.SecretEnv = t.rest[0], t.rest[1:], dir, env, secretEnv
			} else if dir != "" || secretEnv != "" || len(env) > 0 {
				return &usageError{"--dir, --env and --secret-env belong to a command", "give the command after --"}
			}
			if given.token {
				var err error
				if in.Token, err = t.secret("Token for " + t.args[0]); err != nil {
					return err
				}
			}
			return t.reach(ctx, http.MethodPost, "/api/servers", in, "registered")
		},
	}
}

func serverCheckCommand() command {
	return command{
		noun: "server", verb: "check", args: "NAME", short: "Look at a server now",
		long: `Of a process, it is the one that runs that is asked; bouncer server restart takes
up a program that changed. To an address the whole way is gone again, step by step.`,
		example: "bouncer server check sailings",
		run:     func(ctx context.Context, t *task) error { return t.look(ctx, "check") },
	}
}

func serverRestartCommand() command {
	return command{
		noun: "server", verb: "restart", args: "NAME", short: "Replace what runs by what lies on the disk now",
		long:    "The new process has to answer first; if it does not, the one before goes on.",
		example: "bouncer server restart berths",
		run:     func(ctx context.Context, t *task) error { return t.look(ctx, "restart") },
	}
}

// look has a server checked or restarted, and shows how it is doing then.
func (t *task) look(ctx context.Context, verb string) error {
	var s apitype.ServerInfo
	err := t.watching(ctx, t.args[0], func() error {
		return t.client.Do(ctx, http.MethodPost, "/api/servers/"+seg(t.args[0])+"/"+verb, nil, &s)
	})
	if err != nil {
		return err
	}
	show := t.view().showServer
	if t.json {
		show = func(s apitype.ServerInfo) error { return t.writeJSON(s) }
	}
	if err := show(s); err != nil || s.Health.Finding == nil {
		return err
	}
	return &failure{exitNoServer, s.Name + " cannot be reached: " + s.Health.Finding.Message, s.Health.Finding.Remedy}
}

func serverToolsCommand() command {
	return command{
		noun: "server", verb: "tools", args: "NAME", short: "List a server's tools", example: "bouncer server tools sailings",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/tools", func(list []apitype.ToolView) error {
				var rows [][]string
				for _, x := range list {
					rows = append(rows, []string{x.Name, x.Exposed, hints(x.ReadOnly, x.Destructive), clip(x.Description, 80)})
				}
				return t.table([]string{"TOOL", "AGENTS SEE", "SAYS", "DESCRIPTION"}, rows)
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
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/operations", t.view().showOperations)
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
	var yes bool
	return command{
		noun: "server", verb: "remove", args: "NAME", short: "Remove a server, after showing what hangs on it; its secrets stay",
		example: "bouncer server remove sailings", flags: withYes(&yes),
		run: func(ctx context.Context, t *task) error {
			return t.remove(ctx, "server", "/api/servers/"+seg(t.args[0]), yes)
		},
	}
}

// options are the flags of a registration that most servers need none of.
// credentials are the flags that say whose credential a server takes, and how it
// is come by.
// signIn is how a grant is come by, or nil where none is wanted.
// maxFile is the largest file that is sent to the service.
// document reads what --document names: the text of a file, or an address where
// the service reads it.
// picks reads operations as they are given on the command line.
// reach registers or alters a server and shows how reaching it went, step by
// step, whether it worked or not.
func (t *task) reach(ctx context.Context, method, path string, in any, did string) error {
	var s apitype.ServerInfo
	err := t.watching(ctx, t.args[0], func() error { return t.client.Do(ctx, method, path, in, &s) })
	if err != nil {
		said := told(err)
		if said == nil || t.json {
			return err
		}
		if d := said.Document; d != nil {
			fmt.Fprintf(t.Out, "%s %s has these operations:\n", d.Title, d.Version)
			if err := t.view().showOperations(*d); err != nil {
				return err
			}
			return &usageError{
				"nothing was " + did + "; no operation is picked",
				"add --operation ID for each that is to be a tool, or --operation ID=name",
			}
		}
		if said.Finding != nil {
			t.view().showStages(said.Stages)
			return &failure{
				problemCode(said),
				"nothing was " + did + "; " + said.Title,
				said.Hint + fmt.Sprintf(" (cause %s; add --anyway to do it all the same)", said.Code),
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
	return t.view().showServer(s)
}

// whatOf and addressOf say where a server is.
// whoseOf says whose credential the server is reached with, where that is not
// simply the team's secret.
// clip makes foreign text fit for one line.

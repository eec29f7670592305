package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
	"bouncer/internal/locker"
)

// told says what was noticed of a value.
func (t *task) told(s team.Secret) error {
	for _, n := range s.Facts.Notes {
		fmt.Fprintf(t.Out, "  noticed: %s\n", n)
	}
	if s.Facts.Form == "jwt" {
		fmt.Fprintf(
			t.Out,
			"  it is a JSON Web Token, read but not verified: issuer %s, audience %s, scopes %s\n",
			dash(s.Facts.Issuer),
			dash(strings.Join(s.Facts.Audience, " ")),
			dash(strings.Join(s.Facts.Scopes, " ")),
		)
	}
	if s.Ends != nil {
		fmt.Fprintf(t.Out, "  it ends on %s\n", s.Ends.Local().Format("2006-01-02 15:04"))
	}
	if s.Warning != "" {
		fmt.Fprintf(t.Out, "  warning: %s\n", s.Warning)
	}
	return nil
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// secretInput is how the value of a secret is given: from a prompt, from standard
// input, or by where it is read.
type secretInput struct{ source, ends string }

func (i *secretInput) define(f *flag.FlagSet) {
	const where = "where the `value` is read when it is used, instead of being kept: env NAME, file PATH or command LINE; admins only"
	f.StringVar(&i.source, "source", "", where)
	f.StringVar(&i.ends, "ends", "", "`day` on which it ends, like 2027-03-01, where the value does not say")
}

// read returns the value, or where it is read, and when it ends.
func (i *secretInput) read(t *task, prompt string) (apitype.NewValue, error) {
	in := apitype.NewValue{Source: i.source}
	if i.ends != "" {
		at, err := time.ParseInLocation(time.DateOnly, i.ends, time.Local)
		if err != nil {
			return in, &usageError{fmt.Sprintf("--ends %q is no day", i.ends), "days look like 2027-03-01"}
		}
		in.Ends = &at
	}
	if i.source != "" {
		return in, nil
	}
	var err error
	in.Value, err = t.secret(prompt)
	return in, err
}

func secretCommands() []command {
	return []command{
		secretListCommand(),
		secretAddCommand(),
		secretInspectCommand(),
		secretRotateCommand(),
		secretOwnCommand(),
		secretDisownCommand(),
		secretRemoveCommand(),
		lockerShowCommand(),
		lockerNewCommand(),
		lockerRotateCommand(),
		backupCommand(),
	}
}

// holderOf tells whose a secret is.
func holderOf(s team.Secret) string {
	switch {
	case s.Owner != "":
		return s.Owner
	case s.Agent != "":
		return "an agent"
	}
	return "the team"
}

func secretListCommand() command {
	return command{
		noun: "secret", verb: "list", short: "List the secrets, without their values", example: "bouncer secret list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/secrets", func(list []team.Secret) error {
				if len(list) == 0 {
					return t.done("no secrets yet; registering a server with --token stores one")
				}
				var rows [][]string
				for _, s := range list {
					end := ""
					if s.Ends != nil {
						end = s.Ends.Local().Format("2006-01-02")
					}
					note := s.Warning
					if s.Source != "" && note == "" {
						note = "read from " + s.Source
					}
					if s.Overlap != nil && note == "" {
						note = "the value before is tried until " + s.Overlap.Local().Format("2006-01-02 15:04")
					}
					rows = append(
						rows,
						[]string{s.Name, s.Kind, strings.Join(s.UsedBy, " "), holderOf(s), end, when(s.Used), clip(note, 60)},
					)
				}
				return t.table([]string{"NAME", "KIND", "USED BY", "HOLDER", "ENDS", "LAST USED", "NOTE"}, rows)
			})
		},
	}
}

func secretAddCommand() command {
	var kind, server string
	var value secretInput
	return command{
		noun: "secret", verb: "add", args: "NAME", short: "Store a secret, read from a prompt or standard input",
		long: `Kinds: bearer (a token), value (of a header or a query parameter), basic
(user:password), environment (variable or file of a local process),
client-secret (of an OAuth client), private-key (PEM).
What is plainly not part of the value, such as quotes or the word Bearer, is
taken off, and said.`,
		example: "bouncer secret add harbour-token --try sailings < token.txt",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&kind, "kind", "bearer", "`kind` of secret")
			f.StringVar(&server, "try", "", "`server` that it is tried on before it is stored")
			value.define(f)
		},
		run: func(ctx context.Context, t *task) error {
			v, err := value.read(t, "Value of "+t.args[0])
			if err != nil {
				return err
			}
			in := apitype.NewSecret{Name: t.args[0], Kind: kind, Value: v.Value, Source: v.Source, Ends: v.Ends, Server: server}
			return submit(ctx, t, http.MethodPost, "/api/secrets", in, func(s team.Secret) error {
				if err := t.done("secret %s (%s) is stored", s.Name, s.Kind); err != nil {
					return err
				}
				return t.told(s)
			})
		},
	}
}

func secretInspectCommand() command {
	var kind string
	return command{
		noun: "secret", verb: "inspect", short: "Look at a value without storing it", example: "bouncer secret inspect < token.txt",
		flags: func(f *flag.FlagSet) { f.StringVar(&kind, "kind", "bearer", "`kind` of secret") },
		run: func(ctx context.Context, t *task) error {
			v, err := t.secret("Value")
			if err != nil {
				return err
			}
			return submit(
				ctx,
				t,
				http.MethodPost,
				"/api/secrets/inspect",
				apitype.InspectedValue{Kind: kind, Value: v},
				func(i apitype.Inspection) error {
					if i.Problem != "" {
						return &failure{exitFailure, i.Problem, "copy the whole value where it was made"}
					}
					if err := t.done("the value can be used as %s", kind); err != nil {
						return err
					}
					return t.told(team.Secret{Facts: i.Facts, Ends: i.Ends, Warning: i.Warning})
				},
			)
		},
	}
}

func secretRotateCommand() command {
	var anyway bool
	var overlap int
	var value secretInput
	return command{
		noun: "secret", verb: "rotate", args: "NAME", short: "Replace a secret's value, read from a prompt or standard input",
		long: `The new value is tried on the servers that are given the secret; if one does not
take it, nothing is stored. With --overlap the value before is still tried for a
while when a server refuses the new one.`,
		example: "bouncer secret rotate sailings-token --overlap 24 < token.txt",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&anyway, "anyway", false, "store it even when a server does not take it")
			f.IntVar(&overlap, "overlap", 0, "`hours` for which the value before is still tried, 0 to 168")
			value.define(f)
		},
		run: func(ctx context.Context, t *task) error {
			in, err := value.read(t, "New value of "+t.args[0])
			if err != nil {
				return err
			}
			in.Anyway, in.Overlap = anyway, overlap
			return submit(ctx, t, http.MethodPut, "/api/secrets/"+seg(t.args[0])+"/value", in, func(s team.Secret) error {
				if err := t.done("secret %s has a new value, in use from the next call on", s.Name); err != nil {
					return err
				}
				return t.told(s)
			})
		},
	}
}

func secretOwnCommand() command {
	var agent, use string
	var anyway bool
	return command{
		noun:    "secret",
		verb:    "own",
		args:    "SERVER",
		short:   "Store the credential that you, or one of your agents, use at a server instead of the team's",
		example: "bouncer secret own sailings < my-token.txt",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&agent, "agent", "", "`name` of the agent it is for; yourself if left out")
			f.StringVar(&use, "secret", "", "`name` of a stored secret instead of a value; admins and maintainers only")
			f.BoolVar(&anyway, "anyway", false, "store it even when the server does not take it")
		},
		run: func(ctx context.Context, t *task) error {
			in := apitype.OwnValue{Agent: agent, Secret: use, Anyway: anyway}
			if use == "" {
				v, err := t.secret("Your token for " + t.args[0])
				if err != nil {
					return err
				}
				in.Value = v
			}
			return submit(ctx, t, http.MethodPut, "/api/servers/"+seg(t.args[0])+"/own", in, func(s team.Secret) error {
				if err := t.done("%s is reached with secret %s from the next call on", t.args[0], s.Name); err != nil {
					return err
				}
				return t.told(s)
			})
		},
	}
}

func secretDisownCommand() command {
	var agent string
	return command{
		noun:    "secret",
		verb:    "disown",
		args:    "SERVER",
		short:   "Use the team's credential at a server again",
		example: "bouncer secret disown sailings",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&agent, "agent", "", "`name` of the agent it is for; yourself if left out")
		},
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/servers/"+seg(t.args[0])+"/own?agent="+seg(agent)); err != nil {
				return err
			}
			return t.done("your own credential for %s is no longer used", t.args[0])
		},
	}
}

func secretRemoveCommand() command {
	return command{
		noun:    "secret",
		verb:    "remove",
		args:    "NAME",
		short:   "Remove a secret that no server is given",
		example: "bouncer secret remove harbour-token",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/secrets/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("secret %s is removed", t.args[0])
		},
	}
}

func lockerShowCommand() command {
	return command{
		noun: "locker", verb: "show", short: "Show which keys the locker has, without the keys", example: "bouncer locker show",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/locker", func(k apitype.KeySet) error {
				if err := t.done("keys, the one in force last: %s", strings.Join(k.Keys, " ")); err != nil {
					return err
				}
				if k.Next != "" {
					return t.done("known here and not in force yet: %s; put it in force with: bouncer locker rotate", k.Next)
				}
				if k.Problem != "" {
					return t.done("%s", k.Problem)
				}
				return nil
			})
		},
	}
}

func lockerNewCommand() command {
	return command{
		noun: "locker", verb: "new", short: "Print a new key, for key sets that Bouncer does not write itself", example: "bouncer locker new",
		long: `It goes to the end of the list "keys" of the key set, behind a comma. Nodes of a cluster
all have the same set: add it to that of each, and put it in force with bouncer locker rotate.
The service has no part in this: what is printed is the only copy.`,
		local: true,
		run: func(_ context.Context, t *task) error {
			_, entry := locker.NewKey()
			_, err := fmt.Fprintln(t.Out, entry)
			return err
		},
	}
}

func lockerRotateCommand() command {
	return command{
		noun: "locker", verb: "rotate", short: "Put a new key in force and wrap everything with it", example: "bouncer locker rotate",
		long: `The service goes on meanwhile. The key before stays in the key set until the next
rotation, so that backups made before can be opened. In a cluster, and where the key set is
given by a variable or a command, the new key is added there first (bouncer locker new).`,
		run: func(ctx context.Context, t *task) error {
			return submit(ctx, t, http.MethodPost, "/api/locker/rotate", nil, func(k apitype.KeySet) error {
				return t.done("key %s is in force; %d values were wrapped anew", k.Keys[len(k.Keys)-1], k.Rewrapped)
			})
		},
	}
}

func backupCommand() command {
	return command{
		noun: "backup", args: "FILE", short: "Write a copy of the state to a new file; secrets stay encrypted in it",
		long: `The file is a database that another bouncer serve can be started with, given the
key set of the locker, which is not in it.`,
		example: "bouncer backup bouncer-monday.db",
		run: func(ctx context.Context, t *task) error {
			f, err := os.OpenFile(t.args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return &failure{exitFailure, "the file cannot be made: " + pathCause(err), "choose a name that is not taken"}
			}
			var n int64
			body, err := t.client.Stream(ctx, "/api/backup")
			if err == nil {
				n, err = io.Copy(f, body)
				_ = body.Close()
			}
			if cerr := f.Close(); err == nil {
				err = cerr
			}
			if err != nil {
				_ = os.Remove(t.args[0])
				return err
			}
			return t.done("%s bytes are in %s", strconv.FormatInt(n, 10), t.args[0])
		},
	}
}

func signInCommands() []command {
	return []command{
		signInListCommand(),
		signInBeginCommand(),
		signInRevokeCommand(),
		consentListCommand(),
		consentRevokeCommand(),
	}
}

func signInListCommand() command {
	return command{
		noun: "sign-in", verb: "list", short: "List sign-ins at servers; what you have to do comes first", example: "bouncer sign-in list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/sign-ins", func(list []team.SignIn) error {
				if len(list) == 0 {
					return t.done("no server wants a sign-in; register one with --sign-in")
				}
				var rows [][]string
				for _, s := range list {
					note := s.Note
					if s.Mine && s.State != "valid" {
						note = "to do: bouncer sign-in begin " + s.Server + "  " + note
					}
					end := ""
					if s.Expires != nil {
						end = clock(*s.Expires)
					}
					if s.Renews && s.State == "valid" {
						end = "renewed by itself"
					}
					rows = append(rows, []string{s.ID, s.Server, holder(s), s.State, s.Scope, end, clip(note, 70)})
				}
				return t.table([]string{"ID", "SERVER", "WHOSE", "STATE", "SCOPE", "ENDS", "NOTE"}, rows)
			})
		},
	}
}

func signInBeginCommand() command {
	var agent string
	var forTeam bool
	var wait time.Duration
	return command{
		noun: "sign-in", verb: "begin", args: "SERVER", short: "Sign in at a server, with a browser on any machine",
		long: `Prints an address to be opened in a browser where you are signed in to Bouncer,
and waits until the sign-in is there.`,
		example: "bouncer sign-in begin crew",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&agent, "agent", "", "`name` of the agent that gets a sign-in of its own")
			f.BoolVar(&forTeam, "team", false, "for the whole team")
			wait = 10 * time.Minute
			f.Var(span.Value{To: &wait}, "wait", "how `long` to wait; 0 for not at all")
		},
		run: func(ctx context.Context, t *task) error {
			var me team.Person
			if err := t.client.Get(ctx, "/api/session", &me); err != nil {
				return err
			}
			var s apitype.ServerInfo
			if err := t.client.Get(ctx, "/api/servers/"+seg(t.args[0]), &s); err != nil {
				return err
			}
			if s.SignIn == nil || s.SignIn.Grant != team.GrantCode {
				return &failure{exitFailure, "nobody signs in at server " + s.Name, "it takes a stored secret, or none"}
			}
			link := t.client.Base() + "/connect/" + s.Name
			switch {
			case agent != "":
				link += "?agent=" + seg(agent)
			case forTeam:
				link += "?for=team"
			}
			before := t.signIn(ctx, s.Name, me.Name, agent, forTeam)
			fmt.Fprintf(t.Out, "Open this in a browser where you are signed in to Bouncer:\n\n  %s\n\n", link)
			if wait <= 0 {
				return nil
			}
			fmt.Fprintln(t.Err, "Waiting for the sign-in; Ctrl-C ends the waiting only.")
			ctx, stop := context.WithTimeout(ctx, wait)
			defer stop()
			for {
				if now := t.signIn(ctx, s.Name, me.Name, agent, forTeam); now != "" && now != before {
					return t.done("signed in at %s", s.Name)
				}
				select {
				case <-time.After(time.Second):
				case <-ctx.Done():
					return &failure{exitFailure, "nobody has signed in within " + wait.String(), "open the address and try again"}
				}
			}
		},
	}
}

func signInRevokeCommand() command {
	return command{
		noun:    "sign-in",
		verb:    "revoke",
		args:    "ID",
		short:   "End a sign-in, here and at its authorization server",
		example: "bouncer sign-in revoke 01J8Z3...",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/sign-ins/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("the sign-in has ended")
		},
	}
}

func consentListCommand() command {
	return command{
		noun:    "consent",
		verb:    "list",
		short:   "List the programs that speak for agents because somebody agreed",
		example: "bouncer consent list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/consents", func(list []team.Consent) error {
				if len(list) == 0 {
					return t.done("no program has signed in yet; assistants that know OAuth need only the address of /mcp")
				}
				var rows [][]string
				for _, c := range list {
					state := "in force"
					if c.Revoked != nil {
						state = "revoked"
					}
					rows = append(rows, []string{c.ID, c.AppName, c.Agent, c.Person, c.Resource, when(c.Used), state, c.Why})
				}
				return t.table([]string{"ID", "PROGRAM", "AGENT", "AGREED BY", "ADDRESS", "LAST USED", "STATE", "NOTE"}, rows)
			})
		},
	}
}

func consentRevokeCommand() command {
	return command{
		noun:    "consent",
		verb:    "revoke",
		args:    "ID",
		short:   "End what a program may do; its next request is refused",
		example: "bouncer consent revoke 01J8Z3...",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/consents/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("the consent is revoked")
		},
	}
}

func holder(s team.SignIn) string {
	switch {
	case s.Agent != "":
		return "agent " + s.Agent
	case s.Person != "":
		return s.Person
	case s.Grant == "client" || s.Grant == "workload":
		return "Bouncer itself"
	}
	return "the team"
}

// signIn returns the id of the valid sign-in of a holder at a server.
func (t *task) signIn(ctx context.Context, server, me, agent string, forTeam bool) string {
	var list []team.SignIn
	if t.client.Get(ctx, "/api/sign-ins", &list) != nil {
		return "" // the next look tells
	}
	for _, s := range list {
		mine := s.Person == me && agent == "" && !forTeam
		if s.Server == server && s.State == "valid" &&
			(mine || (agent != "" && s.Agent == agent) || (forTeam && s.Person == "" && s.Agent == "")) {
			return s.ID
		}
	}
	return ""
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
)

func loginCommands() []command {
	var person string
	return []command{
		{
			noun: "login", short: "Sign in and keep a token for the command line",
			long:    "The password is asked for, or read from standard input.",
			example: "bouncer login --person marit --address http://127.0.0.1:4680",
			flags:   func(f *flag.FlagSet) { f.StringVar(&person, "person", "", "your `name`") },
			run:     func(ctx context.Context, t *task) error { return doLogin(ctx, t, person) },
		},
		{
			noun: "logout", short: "End the login of the command line", example: "bouncer logout",
			run: func(ctx context.Context, t *task) error {
				if err := t.client.Delete(ctx, "/api/session"); err != nil {
					return err
				}
				if err := os.Remove(t.loginFile()); err != nil && !os.IsNotExist(err) {
					return err
				}
				return t.done("signed out of %s", t.client.Base())
			},
		},
		{
			noun: "whoami", short: "Show who is signed in", example: "bouncer whoami",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/session", func(p team.Person) error {
					return t.done("%s (%s), %s, at %s", p.Name, p.FullName, p.Role, t.client.Base())
				})
			},
		},
	}
}

func doLogin(ctx context.Context, t *task, person string) error {
	if person == "" {
		if !t.Terminal() {
			return &usageError{"the flag --person is missing", "as in: bouncer login --person marit"}
		}
		var err error
		if person, err = t.line("Name"); err != nil {
			return err
		}
	}
	password, err := t.secret("Password of " + person)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	in := apitype.Credentials{Name: person, Password: password, Label: "command line on " + host}
	var out apitype.IssuedToken
	if err := t.client.Do(ctx, http.MethodPost, "/api/tokens", in, &out); err != nil {
		return err
	}
	t.client = t.client.With(out.Token)
	if out.Person.MustChange {
		if err := replacePassword(ctx, t, password); err != nil {
			return err
		}
	}
	if err := t.writeLogin(login{t.client.Base(), out.Person.Name, out.Token}); err != nil {
		return err
	}
	if t.json {
		return t.writeJSON(map[string]string{"address": t.client.Base(), "person": out.Person.Name, "role": string(out.Person.Role)})
	}
	return t.done("signed in to %s as %s (%s); the token is kept in %s", t.client.Base(), out.Person.FullName, out.Person.Role,
		t.loginFile())
}

// replacePassword exchanges a one-time password, which lets nobody do anything
// else.
func replacePassword(ctx context.Context, t *task, old string) error {
	if !t.Terminal() {
		return &failure{
			exitNotAllowed,
			"this is a one-time password, which has to be replaced first",
			"run bouncer login in a terminal, or sign in to the console",
		}
	}
	fmt.Fprintln(t.Err, "This was a one-time password. Choose your own now (at least 10 characters).")
	for range 3 {
		fresh, err := t.secret("New password")
		if err != nil {
			return err
		}
		again, err := t.secret("Once more")
		if err != nil {
			return err
		}
		if fresh != again {
			fmt.Fprintln(t.Err, "The two differ; try again.")
			continue
		}
		err = t.client.Do(ctx, http.MethodPut, "/api/session/password", apitype.NewPassword{Old: old, New: fresh}, nil)
		if err == nil {
			return nil
		}
		said := told(err)
		if said == nil || said.Field != "new" {
			return err
		}
		fmt.Fprintf(t.Err, "The password %s.\n", said.Title)
	}
	return &failure{exitFailure, "no new password was set", "run bouncer login again"}
}

func personCommands() []command {
	return []command{
		personListCommand(),
		personAddCommand(),
		personUpdateCommand(),
		personTieCommand(),
		personInviteCommand(),
		personInvitationsCommand(),
		personWithdrawCommand(),
		personResetCommand(),
		personShowCommand(),
		personRemoveCommand(),
		loginListCommand(),
		loginEndCommand(),
		changeListCommand(),
		changeUndoCommand(),
	}
}

func personListCommand() command {
	return command{
		noun: "person", verb: "list", short: "List everybody in the team", example: "bouncer person list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/people", func(list []team.Person) error {
				var rows [][]string
				for _, p := range list {
					note := ""
					switch {
					case p.Elsewhere:
						note = "signs in at the identity provider"
					case p.MustChange:
						note = "has a one-time password"
					}
					rows = append(rows, []string{p.Name, p.FullName, string(p.Role), note})
				}
				return t.table([]string{"NAME", "FULL NAME", "ROLE", "NOTE"}, rows)
			})
		},
	}
}

func personAddCommand() command {
	var full, role string
	return command{
		noun: "person", verb: "add", args: "NAME", short: "Add somebody; shows a one-time password",
		example: `bouncer person add joss --full-name "Joss Penhale" --role maintainer`,
		flags: func(f *flag.FlagSet) {
			f.StringVar(&full, "full-name", "", "the full `name`")
			f.StringVar(&role, "role", "member", "`role`: admin, maintainer, member or auditor")
		},
		run: func(ctx context.Context, t *task) error {
			in := apitype.NewPerson{Name: t.args[0], FullName: full, Role: team.Role(role)}
			return submit(ctx, t, http.MethodPost, "/api/people", in, func(a apitype.AddedPerson) error {
				return t.done(
					"added %s (%s) as %s\none-time password, shown this once: %s",
					a.Person.Name,
					a.Person.FullName,
					a.Person.Role,
					a.Password,
				)
			})
		},
	}
}

func personTieCommand() command {
	var subject string
	return command{
		noun: "person", verb: "tie", args: "NAME", short: "Say who somebody is at the identity provider",
		long: `Whoever signs in at the identity provider under a name that somebody here has
already is refused, and told this command. They can tie themselves too, on the
page People, when they have signed in with their password.`,
		example: "bouncer person tie joss --subject 7f3c91",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&subject, "subject", "", "the `subject` there, as the refused sign-in told it (required)")
		},
		run: func(ctx context.Context, t *task) error {
			if subject == "" {
				return &usageError{"the flag --subject is missing", "as in: bouncer person tie " + t.args[0] + " --subject 7f3c91"}
			}
			in := apitype.Tie{Subject: subject}
			return submit(ctx, t, http.MethodPut, "/api/people/"+seg(t.args[0])+"/subject", in, func(p team.Person) error {
				return t.done("%s signs in at the identity provider from now on, whose groups say the role", p.Name)
			})
		},
	}
}

func personUpdateCommand() command {
	var full, role string
	return command{
		noun:    "person",
		verb:    "update",
		args:    "NAME",
		short:   "Alter somebody's full name or role",
		example: "bouncer person update joss --role admin",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&full, "full-name", "", "the full `name`")
			f.StringVar(&role, "role", "", "`role`: admin, maintainer, member or auditor")
		},
		run: func(ctx context.Context, t *task) error {
			in := apitype.PersonPatch{}
			if t.given["full-name"] {
				in.FullName = &full
			}
			if t.given["role"] {
				in.Role = (*team.Role)(&role)
			}
			return submit(ctx, t, http.MethodPatch, "/api/people/"+seg(t.args[0]), in, func(p team.Person) error {
				return t.done("%s is %s, %s", p.Name, p.FullName, p.Role)
			})
		},
	}
}

func personInviteCommand() command {
	var full, role string
	return command{
		noun:    "person",
		verb:    "invite",
		short:   "Make a link by which somebody can join the team",
		example: "bouncer person invite --role member --note \"Isla, ropes\"",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&role, "role", "member", "`role`: admin, maintainer, member or auditor")
			f.StringVar(&full, "note", "", "whom it is for (`text`)")
		},
		run: func(ctx context.Context, t *task) error {
			return submit(
				ctx,
				t,
				http.MethodPost,
				"/api/invitations",
				apitype.NewInvitation{Role: team.Role(role), Note: full},
				func(v apitype.Invited) error {
					return t.done(
						"pass this link on; it is shown this once, makes one person %s, and ends on %s:\n%s",
						v.Invitation.Role,
						v.Invitation.Expires.Local().Format("2006-01-02"),
						v.Link,
					)
				},
			)
		},
	}
}

func personInvitationsCommand() command {
	return command{
		noun: "person", verb: "invitations", short: "List the invitations", example: "bouncer person invitations",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/invitations", func(list []team.Invitation) error {
				if len(list) == 0 {
					return t.done("no invitations; make one with: bouncer person invite")
				}
				var rows [][]string
				for _, v := range list {
					rows = append(
						rows,
						[]string{v.ID, v.State, string(v.Role), v.Note, v.By, v.Taken, v.Expires.Local().Format("2006-01-02")},
					)
				}
				return t.table([]string{"ID", "STATE", "ROLE", "FOR", "BY", "TAKEN BY", "ENDS"}, rows)
			})
		},
	}
}

func personWithdrawCommand() command {
	return command{
		noun: "person", verb: "withdraw", args: "ID", short: "Take an invitation back", example: "bouncer person withdraw 01j8z3...",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/invitations/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("the invitation is taken back")
		},
	}
}

func personResetCommand() command {
	return command{
		noun:    "person",
		verb:    "reset",
		args:    "NAME",
		short:   "Give somebody a new one-time password; ends their logins",
		example: "bouncer person reset joss",
		run: func(ctx context.Context, t *task) error {
			return submit(ctx, t, http.MethodPost, "/api/people/"+seg(t.args[0])+"/password", nil, func(r apitype.ResetPassword) error {
				return t.done("one-time password of %s, shown this once: %s", t.args[0], r.Password)
			})
		},
	}
}

func personShowCommand() command {
	return command{
		noun: "person", verb: "show", args: "NAME", short: "Show somebody, and what they hold", example: "bouncer person show joss",
		run: func(ctx context.Context, t *task) error {
			var everybody []team.Person
			if err := t.client.Get(ctx, "/api/people", &everybody); err != nil {
				return err
			}
			i := slices.IndexFunc(everybody, func(p team.Person) bool { return p.Name == t.args[0] })
			return fetch(ctx, t, "/api/people/"+seg(t.args[0])+"/dependents", func(list []team.Dependent) error {
				if i >= 0 {
					fmt.Fprintf(t.Out, "  %-24s %s\n  %-24s %s\n", "full name", everybody[i].FullName, "role", everybody[i].Role)
				}
				for _, d := range list {
					fmt.Fprintf(t.Out, "  %-24s %s\n", d.Kind, strings.Join(d.Names, ", "))
				}
				return nil
			})
		},
	}
}

func personRemoveCommand() command {
	var yes bool
	return command{
		noun: "person", verb: "remove", args: "NAME", short: "Remove somebody, after showing what they hold",
		example: "bouncer person remove joss", flags: withYes(&yes),
		run: func(ctx context.Context, t *task) error {
			return t.remove(ctx, "person", "/api/people/"+seg(t.args[0]), yes)
		},
	}
}

func loginListCommand() command {
	return command{
		noun: "login", verb: "list", short: "List the open logins", example: "bouncer login list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/logins", func(list []team.Login) error {
				var rows [][]string
				for _, l := range list {
					note := ""
					if l.Present {
						note = "this one"
					}
					rows = append(rows, []string{l.ID, l.Person, l.Label, l.From, clock(l.Created), when(l.Used), note})
				}
				return t.table([]string{"ID", "PERSON", "LABEL", "FROM", "OPENED", "LAST USED", "NOTE"}, rows)
			})
		},
	}
}

func loginEndCommand() command {
	return command{
		noun: "login", verb: "end", args: "ID", short: "End a login at once", example: "bouncer login end 01j8z3...",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/logins/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("the login has ended")
		},
	}
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/roster"
)

func rosterCommands() []command {
	return []command{rosterExportCommand(), rosterPlanCommand(), rosterApplyCommand()}
}

func rosterExportCommand() command {
	var to string
	return command{
		noun: "roster", verb: "export", short: "Write down servers, people, agents and rules as a file to keep under version control",
		long:    "Secrets are in it by their names. docs/roster.schema.json helps editors with it.",
		example: "bouncer roster export --to roster.yaml",
		flags:   func(f *flag.FlagSet) { f.StringVar(&to, "to", "", "`file` to write; standard output if left out") },
		run: func(ctx context.Context, t *task) error {
			home := atHome{t}
			return fetch(ctx, t, "/api/roster", func(r apitype.Roster) error {
				var err error
				if r.Text, err = home.withDialects(r.Text); err != nil {
					return err
				}
				if to == "" {
					fmt.Fprint(t.Out, r.Text)
					return nil
				}
				if err := os.WriteFile(to, []byte(r.Text), 0o600); err != nil {
					return &failure{exitFailure, fmt.Sprintf("%s cannot be written: %v", to, err), "check the path and its permissions"}
				}
				return t.done("%s is written; it was version %s", to, r.Version)
			})
		},
	}
}

func rosterPlanCommand() command {
	var prune bool
	return command{
		noun: "roster", verb: "plan", args: "FILE", short: "Say what would change to have it as a roster says",
		long:    "Exit code 0 when nothing would, 1 when something would. - reads standard input.",
		example: "bouncer roster plan roster.yaml",
		flags:   func(f *flag.FlagSet) { f.BoolVar(&prune, "prune", false, "remove what the roster does not name") },
		run: func(ctx context.Context, t *task) error {
			home := atHome{t}
			p, _, err := home.planRoster(ctx, t.args[0], prune)
			if err != nil {
				return err
			}
			if t.json {
				err = t.writeJSON(p)
			} else {
				err = home.showRosterPlan(p)
			}
			if err == nil && len(p.Steps) > 0 {
				err = &failure{
					exitFailure,
					fmt.Sprintf("%d things differ", len(p.Steps)),
					"bouncer roster apply " + t.args[0] + " has it so",
				}
			}
			return err
		},
	}
}

func (t atHome) planRoster(ctx context.Context, path string, prune bool) (p apitype.RosterPlan, in apitype.Roster, err error) {
	if in.Text, err = t.file(path); err != nil {
		return p, in, err
	}
	in.Prune = prune
	err = t.client.Do(ctx, http.MethodPost, "/api/roster/plan", in, &p)
	if said := told(err); said != nil && said.Field == "text" {
		err = &failure{
			exitFailure, path + strings.TrimPrefix(said.Title,
				"text"), "docs/roster.schema.json has the form; bouncer roster export is an example",
		}
	}
	if err == nil {
		p.Steps = append(p.Steps, t.dialectSteps(in.Text)...)
	}
	return p, in, err
}

// withDialects is a roster with the dialects that were added on this machine.
func (t atHome) withDialects(text string) (string, error) {
	r, err := roster.Parse([]byte(text))
	if err != nil {
		return text, err
	}
	known, _ := t.machine().Known()
	for _, d := range known {
		if _, own := t.machine().Own(d.Name); own {
			if r.Dialects == nil {
				r.Dialects = map[string]dialect.Dialect{}
			}
			r.Dialects[d.Name] = d
		}
	}
	if len(r.Dialects) == 0 {
		return text, nil
	}
	out, err := r.Marshal()
	return string(out), err
}

const dialectNoun = "dialect"

// dialectSteps are the dialects of a roster that are not so on this machine.
func (t atHome) dialectSteps(text string) (out []roster.Step) {
	r, err := roster.Parse([]byte(text))
	if err != nil {
		return nil // the service has said so
	}
	known, _ := t.machine().Known()
	for _, name := range slices.Sorted(maps.Keys(r.Dialects)) {
		at := slices.IndexFunc(known, func(d dialect.Dialect) bool { return d.Name == name })
		switch {
		case at < 0:
			out = append(out, roster.Step{Do: roster.Add, Noun: dialectNoun, Name: name})
		case !reflect.DeepEqual(known[at], r.Dialects[name]):
			out = append(out, roster.Step{Do: roster.Alter, Noun: dialectNoun, Name: name})
		}
	}
	return out
}

// addDialects keeps the dialects of a roster on this machine.
func (t atHome) addDialects(text string) error {
	r, err := roster.Parse([]byte(text))
	if err != nil {
		return err
	}
	for _, step := range t.dialectSteps(text) {
		if _, err := t.machine().AddDialect(r.Dialects[step.Name]); err != nil {
			return err
		}
	}
	return nil
}

func (t atHome) showRosterPlan(p apitype.RosterPlan) error {
	for _, s := range p.Steps {
		fmt.Fprintf(t.Out, "%-7s %-7s %s\n", s.Do, s.Noun, s.Name)
		for _, f := range s.Fields {
			fmt.Fprintf(t.Out, "                  %s\n", f)
		}
	}
	if len(p.Extra) > 0 {
		var names []string
		for _, s := range p.Extra {
			names = append(names, s.Noun+" "+s.Name)
		}
		fmt.Fprintf(t.Out, "not in the roster, and left (--prune removes): %s\n", strings.Join(names, ", "))
	}
	if len(p.Steps) == 0 {
		return t.done("everything is as the roster says")
	}
	return nil
}

func rosterApplyCommand() command {
	var prune, yes bool
	var version string
	return command{
		noun: "roster", verb: "apply", args: "FILE", short: "Have it as a roster says: all of it, or nothing",
		long: `Servers are not reached first; look at them afterwards with bouncer server list. With
--version, that of a plan, it is refused when something was altered since.`,
		example: "bouncer roster apply roster.yaml",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&prune, "prune", false, "remove what the roster does not name")
			f.BoolVar(&yes, "yes", false, "do not ask")
			f.StringVar(&version, "version", "", "`version` that bouncer roster plan --json named")
		},
		run: func(ctx context.Context, t *task) error {
			home := atHome{t}
			p, in, err := home.planRoster(ctx, t.args[0], prune)
			if err != nil {
				return err
			}
			if !t.json {
				if err := home.showRosterPlan(p); err != nil || len(p.Steps) == 0 {
					return err
				}
			}
			if err := home.confirm(yes); err != nil {
				return err
			}
			if in.Version = version; version == "" {
				in.Version = p.Version // what was shown is what is done
			}
			return submit(ctx, t, http.MethodPost, "/api/roster/apply", in, func(out apitype.RosterApplied) error {
				if err := home.addDialects(in.Text); err != nil {
					return err
				}
				return home.showRosterApplied(out)
			})
		},
	}
}

func (t atHome) showRosterApplied(out apitype.RosterApplied) error {
	for _, name := range slices.Sorted(maps.Keys(out.Passwords)) {
		fmt.Fprintf(t.Out, "one-time password of %s, shown this once: %s\n", name, out.Passwords[name])
	}
	added := slices.ContainsFunc(out.Steps, func(s roster.Step) bool { return s.Noun == roster.ServerNoun && s.Do == roster.Add })
	if added {
		return t.done("it is as the roster says; bouncer server list shows how the new servers do")
	}
	return t.done("it is as the roster says")
}

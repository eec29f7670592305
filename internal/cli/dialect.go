package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"strings"

	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/dialect"
)

func dialectCommands() []command {
	return []command{
		{
			noun: "dialect", verb: "list", local: true, short: "List how assistants keep their servers, as far as it is known here",
			long:    "A dialect says where an assistant's file lies, how it is written and where in it the servers are.",
			example: "bouncer dialect list",
			run:     func(_ context.Context, t *task) error { return atHome{t}.listDialects() },
		},
		{
			noun: "dialect", verb: "show", args: "NAME", local: true, short: "Show a dialect, as a file that can be changed and added",
			example: "bouncer dialect show quill > mine.yaml",
			run: func(_ context.Context, t *task) error {
				home := atHome{t}
				d, err := home.knownDialect(t.args[0])
				if err != nil {
					return err
				}
				text, err := d.Marshal()
				if err != nil {
					return err
				}
				_, err = t.Out.Write(text)
				return err
			},
		},
		{
			noun: "dialect", verb: "add", args: "FILE", local: true, short: "Add a dialect from a file, or replace one of its name",
			long:    "The form is in docs/guide.md; docs/dialect.schema.json helps editors with it. - reads standard input.",
			example: "bouncer dialect add mine.yaml",
			run:     func(_ context.Context, t *task) error { return atHome{t}.addDialect(t.args[0]) },
		},
		{
			noun: "dialect", verb: "remove", args: "NAME", local: true, short: "Forget a dialect that was added",
			example: "bouncer dialect remove mine",
			run: func(_ context.Context, t *task) error {
				home := atHome{t}
				if _, err := home.knownDialect(t.args[0]); err != nil {
					return err
				}
				err := home.machine().RemoveDialect(t.args[0])
				if errors.Is(err, fs.ErrNotExist) {
					return &failure{
						exitFailure, "dialect " + t.args[0] + " comes along with Bouncer and stays", "add one of the same name to have it replaced",
					}
				}
				if err != nil {
					return err
				}
				return t.done("dialect %s is forgotten", t.args[0])
			},
		},
		learnCommand(),
	}
}

func (t atHome) knownDialect(name string) (dialect.Dialect, error) {
	known, _ := t.machine().Known()
	var names []string
	for _, d := range known {
		if d.Name == name {
			return d, nil
		}
		names = append(names, d.Name)
	}
	return dialect.Dialect{}, &failure{
		exitNotFound, fmt.Sprintf("there is no dialect %q", name), meant("", name, names) + "bouncer dialect list shows what there is",
	}
}

func (t atHome) listDialects() error {
	m := t.machine()
	known, problems := m.Known()
	var rows [][]string
	found := map[string][]string{}
	for _, f := range m.Find(known) {
		found[f.Dialect.Name] = append(found[f.Dialect.Name], f.Path)
	}
	for _, d := range known {
		from := "comes along"
		if _, own := m.Own(d.Name); own {
			from = "added"
		}
		holds := d.Servers.String()
		if d.List != "" {
			holds += " (a list, by " + d.List + ")"
		}
		rows = append(rows, []string{d.Name, d.Title, string(d.Syntax), holds, from, strings.Join(found[d.Name], " ")})
	}
	if err := t.table([]string{"NAME", "ASSISTANT", "SYNTAX", "SERVERS IN", "FROM", "FOUND HERE"}, rows); err != nil {
		return err
	}
	for _, p := range problems {
		fmt.Fprintf(t.Err, "passed over: %v\n", p)
	}
	return nil
}

func (t atHome) addDialect(from string) error {
	text, err := t.file(from)
	if err != nil {
		return err
	}
	d, err := dialect.Parse([]byte(text))
	if err != nil {
		return &failure{exitFailure, from + " is no dialect that can be used: " + err.Error(), "bouncer dialect show common is an example"}
	}
	path, err := t.machine().AddDialect(d)
	if err != nil {
		return err
	}
	return t.done("dialect %s is added as %s", d.Name, path)
}

func learnCommand() command {
	var name, servers string
	var yes bool
	return command{
		noun: "dialect", verb: "learn", args: "FILE", local: true, short: "Work out a dialect from a configuration file with at least one server",
		long: `Entries are found by their shape: a command with arguments, or an address. What was
concluded is shown with how a new entry would look, and kept when you agree.`,
		example: "bouncer dialect learn ~/.parlour/settings.yaml --name parlour",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&name, "name", "", "`name` of the dialect; made of the file's if left out")
			f.StringVar(&servers, "servers", "", "`path` of the map or list with the servers, where there are several candidates")
			f.BoolVar(&yes, "yes", false, "keep it without asking")
		},
		run: func(_ context.Context, t *task) error { return atHome{t}.learn(t.args[0], name, servers, yes) },
	}
}

func (t atHome) learn(path, name, servers string, yes bool) error {
	file, err := enrol.Read(path)
	if err != nil {
		return told2(path, err)
	}
	if !file.Exists {
		return &failure{exitNotFound, path + " does not exist", "give a configuration file that holds at least one server"}
	}
	candidates, err := enrol.Learn(file, name)
	if err != nil {
		return told2(path, err)
	}
	if len(candidates) == 0 {
		return &failure{
			exitFailure, path + " shows no server",
			"what is looked for is a map or a list of entries with a command and arguments, or with an address (http:// or https://)",
		}
	}
	l, err := t.pickLearned(candidates, servers)
	if err != nil {
		return err
	}
	if err := t.showLearned(l); err != nil {
		return err
	}
	if !yes {
		if !t.Terminal() {
			return &usageError{"nothing was kept, since nobody can be asked here", "add --yes to keep it"}
		}
		answer, err := t.line("Keep it? (y/n)")
		if err != nil || !strings.HasPrefix(strings.ToLower(answer), "y") {
			return &failure{exitFailure, "nothing was kept", ""}
		}
	}
	kept, err := t.machine().AddDialect(l.Dialect)
	if err != nil {
		return err
	}
	return t.done("dialect %s is kept as %s; next: bouncer enrol AGENT --config %s", l.Dialect.Name, kept, path)
}

// pickLearned picks one of several candidates: by its path, by far the likeliest, or as
// somebody says.
func (t atHome) pickLearned(candidates []dialect.Learned, servers string) (dialect.Learned, error) {
	var where []string
	for _, c := range candidates {
		if servers != "" && c.Dialect.Servers.String() == servers {
			return c, nil
		}
		where = append(where, c.Dialect.Servers.String())
	}
	switch {
	case servers != "":
		return dialect.Learned{}, &failure{
			exitNotFound,
			"no servers are found in " + servers,
			"they could be in: " + strings.Join(where, ", "),
		}
	case len(candidates) == 1 || candidates[0].Clear(candidates[1]):
		return candidates[0], nil
	case !t.Terminal():
		return dialect.Learned{}, &usageError{"the servers could be in several places: " + strings.Join(where, ", "),
			"say which with --servers"}
	}
	for i, c := range candidates {
		fmt.Fprintf(t.Err, "  %d  %s, %d entries\n", i+1, c.Dialect.Servers, len(c.Entries))
	}
	answer, err := t.line("Which one? (number)")
	if err != nil {
		return dialect.Learned{}, err
	}
	at := 0
	if _, err := fmt.Sscan(answer, &at); err != nil || at < 1 || at > len(candidates) {
		return dialect.Learned{}, &usageError{"none of them was picked", "answer with a number from the list"}
	}
	return candidates[at-1], nil
}

func (t atHome) showLearned(l dialect.Learned) error {
	text, err := l.Dialect.Marshal()
	if err != nil {
		return err
	}
	fmt.Fprintf(t.Out, "%s\n", text)
	for _, e := range l.Entries {
		what := e.URL
		if e.Command != "" {
			what = strings.Join(append([]string{e.Command}, e.Args...), " ")
		}
		fmt.Fprintf(t.Out, "  found  %s: %s\n", e.Name, clip(what, 100))
	}
	for _, g := range l.Guessed {
		fmt.Fprintf(t.Out, "  guess  %s\n", g)
	}
	example := dialect.Entry{
		Name: "bouncer", URL: "http://127.0.0.1:4680/mcp", Headers: []dialect.Value{{Name: "Authorization", Value: "Bearer PASS"}},
	}
	snippet, err := l.Dialect.Snippet(example)
	if err != nil {
		return nil //nolint:nilerr // a dialect without such entries is shown without one
	}
	fmt.Fprintf(t.Out, "\na new entry would be:\n%s\n", indented(snippet))
	return nil
}

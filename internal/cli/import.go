package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/paste"
)

type importing struct {
	values             string
	only               []string
	yes, anyway, plain bool
}

func serverImportCommand() command {
	var i importing
	return command{
		noun: "server", verb: "import", args: "FILE", short: "Register servers from a snippet of JSON, a command line or an address",
		long: `FILE is a file, or - for standard input: JSON as a README or an assistant's
configuration has it (comments, trailing commas and a missing end are no matter), a
command line, or an address. What was read is shown first. Values that look like
secrets go to the locker, placeholders are asked for. Each server is registered as
a whole or not at all.`,
		example: "bouncer server import snippet.json\nbouncer server import - --yes --values values.env < snippet.json",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&i.values, "values", "", "`file` with values for placeholders, NAME=value or SERVER/NAME=value a line")
			f.Func("only", "`name` of a server that is meant; may be given several times; all if left out", func(v string) error {
				i.only = append(i.only, v)
				return nil
			})
			f.BoolVar(&i.yes, "yes", false, "do not ask before registering")
			f.BoolVar(&i.anyway, "anyway", false, "register servers even when they cannot be reached now")
			f.BoolVar(&i.plain, "plain", false, "keep values in the open though they look like secrets")
		},
		run: func(ctx context.Context, t *task) error { return i.run(ctx, t) },
	}
}

func (i *importing) run(ctx context.Context, t *task) error {
	text, err := i.text(t)
	if err != nil {
		return err
	}
	in := apitype.Import{Text: text, Only: i.only, Anyway: i.anyway, Plain: i.plain, Answers: map[string]string{}}
	if i.values != "" {
		if err := i.read(t, in.Answers); err != nil {
			return err
		}
	}
	var seen apitype.Imported
	if err := t.client.Do(ctx, http.MethodPost, "/api/imports", in, &seen); err != nil {
		return err
	}
	if len(seen.Servers) == 0 {
		return &usageError{"no server of that name is in it", "leave --only out to see all"}
	}
	for _, n := range seen.Notes {
		fmt.Fprintln(t.Err, "mended:", n)
	}
	for _, s := range seen.Servers {
		t.view().preview(s.Server)
	}
	if err := i.ask(t, seen, in.Answers); err != nil {
		return err
	}
	in.Apply = true
	var done apitype.Imported
	if err := t.client.Do(ctx, http.MethodPost, "/api/imports", in, &done); err != nil {
		return err
	}
	if t.json {
		return t.writeJSON(done)
	}
	return t.view().imported(done)
}

// text is what is imported.
func (i *importing) text(t *task) (string, error) {
	if t.args[0] != "-" {
		return t.file(t.args[0])
	}
	raw, err := io.ReadAll(io.LimitReader(t.In, paste.MaxText+1))
	return string(raw), err
}

// read reads values for placeholders from a file of NAME=value lines.
func (i *importing) read(t *task, answers map[string]string) error {
	text, err := t.file(i.values)
	if err != nil {
		return err
	}
	for n, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "export "))
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		if !ok {
			return &usageError{
				fmt.Sprintf("line %d of %s is not NAME=value", n+1, i.values), "lines look like BERTHS_KEY=... or berths/BERTHS_KEY=...",
			}
		}
		answers[strings.TrimSpace(name)] = strings.Trim(strings.TrimSpace(value), `"'`)
	}
	return nil
}

// preview shows a server as it was read.
func (t view) preview(s paste.Server) {
	at := s.URL
	if s.Command != "" {
		at = strings.Join(append([]string{s.Command}, s.Args...), " ")
	}
	fmt.Fprintf(t.Err, "%s\n  %-10s %s\n", s.Name, "reached at", clip(at, 200))
	if s.Dir != "" {
		fmt.Fprintf(t.Err, "  %-10s %s\n", "directory", s.Dir)
	}
	for what, list := range map[string][]paste.Value{"variable": s.Env, "header": s.Headers, "parameter": s.Query} {
		for _, v := range list {
			how := v.Value
			switch {
			case v.Secret != "":
				how = "goes to the locker (" + v.Secret + ")"
			case v.Asked:
				how = v.Value + " is a placeholder"
			}
			fmt.Fprintf(t.Err, "  %-10s %s: %s\n", what, v.Name, clip(how, 120))
		}
	}
	for _, n := range s.Notes {
		fmt.Fprintf(t.Err, "  %-10s %s\n", "noticed", n)
	}
}

// ask asks for what placeholders stand for, and whether to go on.
func (i *importing) ask(t *task, seen apitype.Imported, answers map[string]string) error {
	for _, s := range seen.Servers {
		for _, list := range [][]paste.Value{s.Server.Env, s.Server.Headers, s.Server.Query} {
			for _, v := range list {
				_, byName := answers[v.Name]
				_, exactly := answers[s.Server.Name+"/"+v.Name]
				if !v.Asked || byName || exactly || !t.Terminal() {
					continue // what is missing is told with its server
				}
				fmt.Fprintf(t.Err, "Value of %s for %s: ", v.Name, s.Server.Name)
				value, err := t.ReadSecret()
				fmt.Fprintln(t.Err)
				if err != nil {
					return err
				}
				answers[s.Server.Name+"/"+v.Name] = strings.TrimSpace(value)
			}
		}
	}
	if i.yes {
		return nil
	}
	if !t.Terminal() || t.args[0] == "-" {
		return &usageError{"nothing was registered, since nobody can be asked here", "look at what was read, and add --yes"}
	}
	answer, err := t.line("Register this? (y/n)")
	if err != nil || !strings.HasPrefix(strings.ToLower(answer), "y") {
		return &failure{exitFailure, "nothing was registered", ""}
	}
	return nil
}

// imported tells what became of each server; the error is for those that failed.
func (t view) imported(done apitype.Imported) error {
	failed := 0
	for _, s := range done.Servers {
		if s.Problem == nil {
			tools := ""
			if s.Registered != nil {
				tools = fmt.Sprintf(", %s, %d tools", s.Registered.Health.State, s.Registered.Health.Tools)
			}
			if err := t.done("%s is registered%s", s.Server.Name, tools); err != nil {
				return err
			}
			continue
		}
		failed++
		fmt.Fprintf(t.Err, "%s was not registered, and nothing of it was kept: %s\n", s.Server.Name, s.Problem.Title)
		if s.Problem.Hint != "" {
			fmt.Fprintf(t.Err, "  hint: %s\n", s.Problem.Hint)
		}
	}
	if failed > 0 {
		return &failure{
			exitNoServer, fmt.Sprintf("%d of %d servers were not registered", failed, len(done.Servers)),
			"mend what is said, and import them again with --only NAME",
		}
	}
	return nil
}

package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"strconv"

	"bouncer/internal/app"
	"bouncer/internal/upkeep"
)

func copyCommands() []command {
	values := map[string]string{}
	var replace bool
	return []command{
		{
			noun: "copy", verb: "list", short: "List the copies of the state that the service makes by itself", example: "bouncer copy list",
			run: func(ctx context.Context, t *task) error { return fetch(ctx, t, "/api/copies", t.view().showCopies) },
		},
		{
			noun: "copy", verb: "make", short: "Have such a copy made now", example: "bouncer copy make",
			run: func(ctx context.Context, t *task) error {
				return submit(ctx, t, http.MethodPost, "/api/copies", nil, func(c upkeep.Copies) error {
					return t.done("%s was made, and can be opened", c.Copies[0].File)
				})
			},
		},
		{
			noun: "restore", args: "FILE", local: true, short: "Put a copy of the state in the place of the state in a data directory",
			long: `The copy is one that bouncer backup or the service itself wrote. It is opened and
checked before anything is altered: that it is whole, of a schema that is known, and
that the key set opens what is sealed in it. No service may run in the directory; a
state that is there is refused, or kept under another name with --replace.`,
			example: "bouncer restore bouncer-monday.db --data /var/lib/bouncer\nbouncer restore bouncer-monday.db --data /var/lib/bouncer --replace",
			flags: func(f *flag.FlagSet) {
				clear(values)
				replace = false
				f.Func(
					"data",
					"the data `directory`; else BOUNCER_DATA, or the default of bouncer serve",
					func(v string) error { values["data"] = v; return nil },
				)
				f.Func(
					"keys",
					"the key set, as the setting keys names it (`source`)",
					func(v string) error { values["keys"] = v; return nil },
				)
				f.BoolVar(&replace, "replace", false, "also where there is a state; it is kept under another name")
			},
			run: func(ctx context.Context, t *task) error { return t.restore(ctx, values, replace) },
		},
	}
}

func (t view) showCopies(c upkeep.Copies) error {
	if c.Dir == "" {
		return t.done("none are made; the setting backup-dir names a directory for them, and bouncer backup FILE writes one")
	}
	if c.Problem != "" {
		fmt.Fprintf(t.Out, "the last try failed: %s\n", c.Problem)
	}
	var rows [][]string
	for _, one := range c.Copies {
		rows = append(rows, []string{clock(one.At), strconv.FormatInt(one.Bytes>>10, 10) + " KiB", one.File})
	}
	if len(rows) == 0 {
		return t.done("none yet; one is made every %s in %s", c.Every, c.Dir)
	}
	return t.table([]string{"MADE", "SIZE", "FILE"}, rows)
}

func (t *task) restore(ctx context.Context, values map[string]string, replace bool) error {
	s, _, err := app.ReadSettings(values, t.Getenv, t.Getenv("BOUNCER_CONFIG"))
	var bad *app.SettingError
	if errors.As(err, &bad) {
		return &usageError{bad.Error(), "bouncer serve -h lists the settings"}
	}
	if err != nil {
		return err
	}
	out, err := app.Restore(ctx, s, t.args[0], replace)
	var start *app.StartError
	if errors.As(err, &start) {
		return &failure{exitFailure, "nothing was restored; " + start.What, start.Hint}
	}
	if err != nil {
		return err
	}
	if t.json {
		return t.writeJSON(out)
	}
	fmt.Fprintf(t.Out, "%d servers, %d agents, %d people, %d secrets and %d calls are in %s\n",
		out.Servers, out.Agents, out.People, out.Secrets, out.Calls, s.Data)
	if out.Before != "" {
		fmt.Fprintf(t.Out, "what was there is kept as %s\n", out.Before)
	}
	return t.done("start it with: bouncer serve --data %s", s.Data)
}

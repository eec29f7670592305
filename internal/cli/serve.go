package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"

	"bouncer/internal/app"
	"bouncer/internal/heap"
)

func serveCommands() []command {
	values := map[string]string{}
	var config string
	var check bool
	return []command{
		{
			noun: "serve", local: true, short: "Run the service",
			long: `Each setting is taken from its flag, else from the environment (BOUNCER_ and the
name in capitals), else from the YAML file, else from its default.`,
			example: "bouncer serve --data /var/lib/bouncer --listen 127.0.0.1:4680",
			flags: func(f *flag.FlagSet) {
				f.StringVar(&config, "config", "", "YAML `file` with settings; else BOUNCER_CONFIG")
				f.BoolVar(&check, "check", false, "say what the settings are and what they amount to, and start nothing")
				for _, s := range app.Table() {
					f.Func(s.Key, "`value`: "+help(s), func(v string) error { values[s.Key] = v; return nil })
				}
			},
			run: func(ctx context.Context, t *task) error { return serve(ctx, t, values, config, check) },
		},
		{
			noun: "version", local: true, short: "Show the version", example: "bouncer version",
			run: func(_ context.Context, t *task) error {
				_, err := fmt.Fprintln(t.Out, "bouncer", app.Version)
				return err
			},
		},
	}
}

func help(s app.Setting) string {
	if s.Default == "" {
		return s.Help
	}
	return s.Help + " (default " + s.Default + ")"
}

func serve(ctx context.Context, t *task, values map[string]string, config string, check bool) error {
	if config == "" {
		config = t.Getenv("BOUNCER_CONFIG")
	}
	s, given, err := app.ReadSettings(values, t.Getenv, config)
	var bad *app.SettingError
	if errors.As(err, &bad) {
		return &usageError{bad.Error(), "bouncer serve -h lists the settings"}
	}
	if err != nil {
		return err
	}
	if check {
		return t.examine(s, given)
	}
	s.Stdin = t.In
	if t.Getenv("GOGC") == "" {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		go heap.Keep(ctx) // ends with the service
	}
	// The key set must not be read by what is started from here.
	if err := app.Harden(); err != nil {
		fmt.Fprintf(t.Err, "bouncer: other processes of this user may be able to read the service's memory: %v\n", err)
	}
	svc, err := app.Start(ctx, s, t.Err)
	if name, ok := strings.CutPrefix(s.Keys, "env:"); ok {
		_ = os.Unsetenv(name) // it is read, and nobody else's
	}
	var start *app.StartError
	if errors.As(err, &start) {
		return &failure{exitFailure, start.What, start.Hint}
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(t.Out, "Bouncer is listening on %s\n", svc.Address)
	if svc.FirstPassword != "" {
		fmt.Fprintf(t.Out, "First start: sign in as %s with the one-time password %s (shown this once)\n", s.FirstAdmin, svc.FirstPassword)
	}
	err = svc.Wait(ctx)
	svc.Stop(context.WithoutCancel(ctx))
	return err
}

// examine shows the settings in force, where each comes from, and what a start with them
// would be like.
func (t *task) examine(s app.Settings, given []app.Given) error {
	var rows [][]string
	for _, g := range given {
		rows = append(rows, []string{g.Key, g.Value, g.From, clip(g.Help, 90)})
	}
	if err := t.table([]string{"SETTING", "VALUE", "FROM", "MEANS"}, rows); err != nil {
		return err
	}
	notices, err := app.Examine(s)
	var start *app.StartError
	if errors.As(err, &start) {
		return &failure{exitFailure, start.What, start.Hint}
	}
	if err != nil {
		return err
	}
	for _, n := range notices {
		fmt.Fprintf(t.Out, "\nnotice: %s\n  hint: %s\n", n.What, n.Hint)
	}
	_, err = fmt.Fprintln(t.Out, "\nthe service would start with this")
	return err
}

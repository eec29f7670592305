package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"bouncer/internal/apitype"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

type enrolment struct {
	config, entry, server string
	life                  time.Duration
	dryRun, yes, create   bool
}

func enrolCommands() []command {
	o := enrolment{life: 90 * day}
	return []command{{
		noun: "enrol", args: "AGENT", short: "Write Bouncer's entry into an assistant's configuration file",
		long: `The entry (address and a new pass) goes into the map mcpServers; every other byte
of the file stays as it is. The change is shown first, and the old file is kept
beside the new one.`,
		example: "bouncer enrol marit-quill --config ~/.quill/config.json --dry-run\n" +
			"bouncer enrol marit-quill --config ~/.quill/config.json",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&o.config, "config", "", "the assistant's configuration `file` (required)")
			f.StringVar(&o.entry, "entry", "bouncer", "`name` of the entry")
			f.StringVar(&o.server, "server", "", "enrol for this one server only, by `name`; all within reach, if left out")
			f.Var(span.Value{To: &o.life}, "life", "for how `long` the pass is valid, like 12h, 90d or 2w")
			f.BoolVar(&o.create, "create", false, "add the agent when there is none of that name; you own it")
			f.BoolVar(&o.dryRun, "dry-run", false, "show the change and do nothing")
			f.BoolVar(&o.yes, "yes", false, "do not ask before writing")
		},
		run: func(ctx context.Context, t *task) error { return enrol(ctx, t, o) },
	}}
}

func enrol(ctx context.Context, t *task, o enrolment) error {
	agent := t.args[0]
	if o.config == "" {
		return &usageError{"the flag --config is missing", "as in: bouncer enrol " + agent + " --config ~/.quill/config.json"}
	}
	if o.entry == "" {
		return &usageError{"the flag --entry is empty", "leave it out for an entry named bouncer"}
	}
	path, err := filepath.EvalSymlinks(o.config)
	if errors.Is(err, fs.ErrNotExist) {
		path, err = o.config, nil
	}
	if err != nil {
		return fileError(o.config, err)
	}
	before, mode, err := readConfig(path)
	if err != nil {
		return err
	}
	var about apitype.About
	if err := t.client.Get(ctx, "/api/about", &about); err != nil {
		return err
	}
	entry := dialect.Entry{Type: "http", URL: about.Address + "/mcp", Headers: map[string]string{"Authorization": "Bearer (a new pass)"}}
	if o.server != "" {
		if err := t.client.Get(ctx, "/api/servers/"+seg(o.server), nil); err != nil {
			return err
		}
		entry.URL += "/" + o.server
	}
	if key, other := dialect.OtherMap(before); other || otherSyntax(path) {
		return t.notThisForm(o.config, key, entry.URL)
	}
	preview, err := dialect.Put(before, o.entry, entry)
	if err != nil {
		return &failure{exitFailure, fmt.Sprintf("%s cannot be read: %v", o.config, err), "mend the file there; it was left as it is"}
	}
	exists, err := t.agentExists(ctx, agent)
	if err != nil {
		return err
	}
	if !exists && !o.create {
		return &failure{
			exitNotFound,
			fmt.Sprintf("there is no agent %q", agent),
			"add --create to add it, or check the spelling with bouncer agent list",
		}
	}
	shown := before
	if old, ok, err := dialect.Lookup(before, o.entry); err == nil && ok && old.Headers["Authorization"] != "" {
		shown = bytes.ReplaceAll(before, []byte(old.Headers["Authorization"]), []byte("Bearer (the old pass)"))
	}
	diff := difflib.UnifiedDiff{
		A:        difflib.SplitLines(string(shown)),
		B:        difflib.SplitLines(string(preview)),
		FromFile: o.config,
		ToFile:   o.config + " (new)",
		Context:  3,
	}
	if err := difflib.WriteUnifiedDiff(t.Err, diff); err != nil {
		return err
	}
	if o.dryRun {
		return t.done("dry run: nothing was written, no pass was made")
	}
	if err := t.confirm(o.yes); err != nil {
		return err
	}
	return enrolNow(ctx, t, o, path, before, mode, entry, exists)
}

// otherSyntax reports whether a file is, by its name, in a form that is not written.
func otherSyntax(path string) bool {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".yaml", ".yml", ".toml", ".ini", ".xml":
		return true
	}
	return false
}

// notThisForm refuses a file whose assistant would not read what is written there, and
// prints what is to be pasted.
func (t *task) notThisForm(path, key, url string) error {
	why := fmt.Sprintf("%s is in a form that is not written by this command", path)
	if key != "" {
		why = fmt.Sprintf("%s keeps its servers in %q, where an entry in %q would not be read", path, key, dialect.Map)
	}
	entry, err := entryText(url, "PASS")
	if err != nil {
		return err
	}
	if err := t.done("%s", entry); err != nil {
		return err
	}
	return &failure{exitFailure, why + "; nothing was written, no pass was made", fmt.Sprintf(
		"paste such an entry where the assistant keeps its servers, with a pass from: bouncer agent pass %s", t.args[0],
	)}
}

// enrolNow makes the pass and writes the file; when the file cannot be written
// the pass is revoked again, so that nothing is left half-done.
func enrolNow(
	ctx context.Context,
	t *task,
	o enrolment,
	path string,
	before []byte,
	mode fs.FileMode,
	entry dialect.Entry,
	exists bool,
) error {
	agent := t.args[0]
	if !exists {
		var me team.Person
		if err := t.client.Get(ctx, "/api/session", &me); err != nil {
			return err
		}
		if err := t.client.Do(ctx, http.MethodPost, "/api/agents", apitype.NewAgent{Name: agent, Owner: me.Name}, nil); err != nil {
			return err
		}
	}
	host, _ := os.Hostname()
	passes := "/api/agents/" + seg(agent) + "/passes"
	var p apitype.IssuedPass
	in := apitype.NewPass{Label: "enrolled in " + filepath.Base(path) + " on " + host}
	in.Days, in.Hours = daysAndHours(o.life)
	if err := t.client.Do(ctx, http.MethodPost, passes, in, &p); err != nil {
		return err
	}
	entry.Headers = map[string]string{"Authorization": "Bearer " + p.Token}
	after, err := dialect.Put(before, o.entry, entry)
	var backup string
	if err == nil {
		backup, err = replaceFile(path, before, after, mode)
	}
	if err != nil {
		undo := t.client.Delete(context.WithoutCancel(ctx), passes+"/"+seg(p.Pass.ID))
		return errors.Join(fileError(o.config, err), undo)
	}
	if t.json {
		return t.writeJSON(map[string]any{"agent": agent, "config": path, "backup": backup, "pass": p.Pass})
	}
	until := p.Pass.Expires.Local().Format(time.DateOnly)
	err = t.done("%s is enrolled: %s reaches %s with a pass that is valid until %s", agent, o.config, entry.URL, until)
	if err != nil {
		return err
	}
	if backup != "" {
		return t.done("the old file is kept as %s", backup)
	}
	return nil
}

func (t *task) agentExists(ctx context.Context, name string) (bool, error) {
	err := t.client.Get(ctx, "/api/agents/"+seg(name), nil)
	if said := told(err); said != nil && said.Status == http.StatusNotFound {
		return false, nil
	}
	return err == nil, err
}

func (t *task) confirm(yes bool) error {
	if yes {
		return nil
	}
	if !t.Terminal() {
		return &usageError{"nothing was written, since nobody can be asked here", "add --yes to write, or --dry-run to look only"}
	}
	answer, err := t.line("Write this? (y/n)")
	if err != nil || !strings.HasPrefix(strings.ToLower(answer), "y") {
		return &failure{exitFailure, "nothing was written", ""}
	}
	return nil
}

func readConfig(path string) ([]byte, fs.FileMode, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(filepath.Dir(path)); err != nil {
			return nil, 0, fileError(path, err)
		}
		return nil, 0o600, nil
	}
	if err != nil {
		return nil, 0, fileError(path, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, 0, fileError(path, err)
	}
	if !info.Mode().IsRegular() {
		return nil, 0, &failure{exitFailure, path + " is no file", "give the assistant's configuration file"}
	}
	raw, err := io.ReadAll(io.LimitReader(f, dialect.MaxFile+1))
	if err != nil {
		return nil, 0, fileError(path, err)
	}
	if len(raw) > dialect.MaxFile {
		return nil, 0, &failure{
			exitFailure,
			fmt.Sprintf("%s is larger than %d MiB", path, dialect.MaxFile>>20),
			"give the assistant's configuration file",
		}
	}
	return raw, info.Mode().Perm(), nil
}

func fileError(path string, err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return &failure{
		exitFailure,
		fmt.Sprintf("%s cannot be used: %v", path, err),
		"check the path and its permissions; the file was left as it is",
	}
}

// replaceFile writes the new content beside the file and moves it into place,
// after keeping a copy of the old one. It refuses when the file was changed
// meanwhile.
func replaceFile(path string, before, after []byte, mode fs.FileMode) (backup string, err error) {
	now, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if !bytes.Equal(now, before) {
		return "", errors.New("it was changed by somebody else meanwhile")
	}
	// A file that holds a pass is for its owner only.
	mode &^= 0o077
	if err == nil {
		backup = path + ".before-bouncer-" + time.Now().Format("20060102-150405")
		for i := 1; ; i++ {
			f, err := os.OpenFile(backup, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
			if errors.Is(err, fs.ErrExist) && i < 100 {
				backup = fmt.Sprintf("%s.before-bouncer-%s-%d", path, time.Now().Format("20060102-150405"), i)
				continue
			}
			if err != nil {
				return "", err
			}
			_, werr := f.Write(before)
			if err := errors.Join(werr, f.Close()); err != nil {
				return "", err
			}
			break
		}
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".bouncer-*")
	if err != nil {
		return "", err
	}
	_, werr := tmp.Write(after)
	if err := errors.Join(werr, tmp.Chmod(mode), tmp.Sync(), tmp.Close()); err != nil {
		return "", errors.Join(err, os.Remove(tmp.Name()))
	}
	if err := os.Rename(tmp.Name(), path); err != nil {
		return "", errors.Join(err, os.Remove(tmp.Name()))
	}
	return backup, nil
}

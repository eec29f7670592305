package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/assistants/adopt"
	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

// adoption are the flags of adopt.
type adoption struct {
	agent, entry, values string
	configs              []string
	life                 time.Duration
	yes, undo, dryRun    bool
}

func adoptCommands() []command {
	o := adoption{life: 90 * day}
	return []command{{
		noun: "adopt", short: "Take over the servers that an assistant has in its file already",
		long: `Each server is registered, its secrets go to the locker, and the agent gets a rule for
it. Only when all of it answers are the entries replaced by Bouncer's. What cannot be
taken over stays where it is. --undo puts the file back and takes away what was made.`,
		example: "bouncer adopt --config ~/.quill/config.json --dry-run\n" +
			"bouncer adopt --agent marit-quill --config ~/.quill/config.json --config project/.quill/config.json",
		flags: func(f *flag.FlagSet) {
			f.Func("config", "the assistant's configuration `file` (required); may be given several times", func(v string) error {
				o.configs = append(o.configs, v)
				return nil
			})
			f.StringVar(&o.agent, "agent", "",
				"`name` of the agent; the one that is enrolled in the file, or one made of your name and the file's")
			f.StringVar(&o.entry, "entry", "bouncer", "`name` of Bouncer's entry")
			f.StringVar(
				&o.values,
				"values",
				"",
				"`file` with values for what is only named in the entries, as NAME=value; - for standard input",
			)
			f.Var(span.Value{To: &o.life}, "life", "for how `long` the pass is valid, like 12h, 90d or 2w")
			f.BoolVar(&o.dryRun, "dry-run", false, "show what would become of each entry and do nothing")
			f.BoolVar(&o.undo, "undo", false, "put the file back, and take away what was made for it")
			f.BoolVar(&o.yes, "yes", false, "do not ask")
		},
		run: func(ctx context.Context, t *task) error { return o.run(ctx, atHome{t}) },
	}}
}

func (o *adoption) run(ctx context.Context, t atHome) error {
	if len(o.configs) == 0 {
		return &usageError{"the flag --config is missing", "as in: bouncer adopt --config ~/.quill/config.json"}
	}
	if o.undo {
		var failed error
		for _, path := range o.configs {
			failed = errors.Join(failed, o.runUndo(ctx, t, path))
		}
		return failed
	}
	files, items, err := o.plan(ctx, t)
	if err != nil {
		return err
	}
	if err := t.showAdoption(items); err != nil {
		return err
	}
	if !slices.ContainsFunc(items, func(i adopt.Item) bool { return i.What != adopt.Left }) {
		return &failure{exitFailure, "there is nothing to take over", "the reasons are above"}
	}
	if o.dryRun {
		return t.done("dry run: nothing was registered, no file was touched")
	}
	if err := t.confirm(o.yes); err != nil {
		return err
	}
	var failed error
	for _, f := range files {
		if err := o.apply(ctx, t, f, items); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// adoptedFile is a file that is to be adopted.
type adoptedFile struct {
	plan
	agent string
}

// plan reads the files and says what becomes of each of their entries.
func (o *adoption) plan(ctx context.Context, t atHome) (files []adoptedFile, items []adopt.Item, err error) {
	var servers []apitype.ServerInfo
	if err := t.client.Get(ctx, "/api/servers", &servers); err != nil {
		return nil, nil, err
	}
	var sources []adopt.Source
	address := ""
	for _, path := range o.configs {
		e := enrolment{entry: o.entry, life: o.life}
		p, err := e.prepare(ctx, t, "agent", path)
		if err != nil {
			return nil, nil, err
		}
		if !p.file.Exists {
			return nil, nil, &failure{exitNotFound, path + " does not exist", "give a configuration file that holds at least one server"}
		}
		agent, err := o.agentOf(ctx, t, p)
		if err != nil {
			return nil, nil, err
		}
		address = p.address
		files = append(files, adoptedFile{p, agent})
		sources = append(sources, adopt.Source{Path: p.file.Real, Own: o.entry, Entries: p.choice.Dialect.Entries(p.choice.File)})
	}
	plain := make([]team.Server, len(servers))
	for i, s := range servers {
		plain[i] = s.Server
	}
	values, err := o.given(t)
	if err != nil {
		return nil, nil, err
	}
	items = adopt.Plan(sources, plain, address)
	for at := range items {
		t.takeEnvFiles(&items[at])
		reference := ""
		for _, f := range files {
			if f.file.Real == items[at].File {
				reference = f.choice.Dialect.Reference
			}
		}
		missing := items[at].Resolve(reference, func(name string) string {
			if v, ok := values[name]; ok {
				return v
			}
			return t.Getenv(name)
		})
		if len(missing) > 0 && items[at].What == adopt.Register {
			names := strings.Join(missing, ", ")
			items[at].What, items[at].Why = adopt.Left, "it names variables that are not set here: "+names+" (give them with --values)"
		}
	}
	return files, items, nil
}

// takeEnvFiles takes over what stands in the files with variables that an entry names.
func (t atHome) takeEnvFiles(i *adopt.Item) {
	if i.What != adopt.Register {
		return
	}
	var all []dialect.Value
	for _, path := range i.EnvFiles() {
		if !filepath.IsAbs(path) {
			path = filepath.Join(filepath.Dir(i.File), path)
		}
		text, err := t.file(path)
		if err != nil {
			i.What, i.Why = adopt.Left, "the file with its variables cannot be read: "+path
			return
		}
		all = append(all, assignments(text)...)
	}
	if len(all) > 0 {
		i.TakeEnv(all)
	}
}

// assignments reads lines like NAME=value, as files with variables have them.
func assignments(text string) (out []dialect.Value) {
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimPrefix(strings.TrimSpace(line), "export ")
		if name, value, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(line, "#") {
			out = append(out, dialect.Value{Name: strings.TrimSpace(name), Value: strings.Trim(strings.TrimSpace(value), `"'`)})
		}
	}
	return out
}

// given are the values of --values.
func (o *adoption) given(t atHome) (map[string]string, error) {
	out := map[string]string{}
	if o.values == "" {
		return out, nil
	}
	text, err := t.file(o.values)
	if err != nil {
		return nil, err
	}
	for _, v := range assignments(text) {
		out[v.Name] = v.Value
	}
	return out, nil
}

// agentOf is the agent of a file: as it was said, the one that is enrolled in it, or one
// by the person's and the file's name.
func (o *adoption) agentOf(ctx context.Context, t atHome, p plan) (string, error) {
	if o.agent != "" {
		return o.agent, nil
	}
	if e, ok, err := t.book().Of(p.file.Real, ""); err != nil || ok {
		return e.Agent, err
	}
	var me team.Person
	if err := t.client.Get(ctx, "/api/session", &me); err != nil {
		return "", err
	}
	kind := p.choice.Dialect.Name
	if kind == dialect.Common {
		kind = enrol.NameOf(p.file.Path)
	}
	name := me.Name + "-" + kind
	if len(name) > 30 {
		name = strings.TrimRight(name[:30], "-")
	}
	return name, nil
}

func (t atHome) showAdoption(items []adopt.Item) error {
	var rows [][]string
	for _, i := range items {
		becomes := map[string]string{
			adopt.Register: "server " + i.Server,
			adopt.Known:    "server " + i.Server + ", which is there or in another file",
			adopt.Left:     "left: " + i.Why,
		}[i.What]
		how := i.Entry.URL
		if i.Entry.Command != "" {
			how = i.Entry.Command
		}
		secret := enrol.SecretOf(i.Entry)
		if secret != "" && i.What == adopt.Register {
			secret += ", to the locker"
		}
		rows = append(rows, []string{filepath.Base(i.File), i.Entry.Name, clip(how, 50), secret, becomes})
	}
	if err := t.table([]string{"FILE", "ENTRY", "ADDRESS OR COMMAND", "SECRET IN", "BECOMES"}, rows); err != nil {
		return err
	}
	for _, i := range items {
		for _, note := range i.Entry.Notes {
			fmt.Fprintf(t.Err, "%s, %s: %s\n", filepath.Base(i.File), i.Entry.Name, note)
		}
	}
	for _, s := range adopt.Compare(items) {
		line := fmt.Sprintf("%s is in %d files", s.Server, len(s.Files))
		if len(s.Differ) > 0 {
			line += "; they differ in " + strings.Join(s.Differ, ", ") + ": what the first one has is taken"
		}
		fmt.Fprintln(t.Err, line)
	}
	return nil
}

// made is what was made on the way, to be taken away again.
type made struct {
	servers, secrets, rules []string
	agent                   bool
}

// apply takes one file over: first all that can fail, and the file last. What was made is
// taken away again when something does fail.
func (o *adoption) apply(ctx context.Context, t atHome, f adoptedFile, items []adopt.Item) (err error) {
	var m made
	defer func() {
		if err != nil {
			err = errors.Join(err, t.unmake(context.WithoutCancel(ctx), f.agent, m))
		}
	}()
	exists, err := t.agentExists(ctx, f.agent)
	if err != nil {
		return err
	}
	if !exists {
		if err := t.addAgent(ctx, f.agent, f.choice.Dialect.Name); err != nil {
			return err
		}
		m.agent = true
	}
	var taken []adopt.Item
	for _, i := range items {
		if i.File != f.file.Real || i.What == adopt.Left {
			continue
		}
		if why := t.takeOver(ctx, i, &m); why != nil {
			fmt.Fprintf(t.Err, "%s stays in %s: %v\n", i.Entry.Name, f.file.Path, why)
			continue
		}
		taken = append(taken, i)
	}
	if len(taken) == 0 {
		return &failure{exitFailure, "nothing of " + f.file.Path + " could be taken over; it was left as it is", "the reasons are above"}
	}
	if err := t.admitAndVerify(ctx, f.agent, taken, &m); err != nil {
		return err
	}
	return o.replaceEntries(ctx, t, f, taken, m)
}

// takeOver registers the server of an entry. One that is there by now is one.
func (t atHome) takeOver(ctx context.Context, i adopt.Item, m *made) error {
	if err := t.client.Get(ctx, "/api/servers/"+seg(i.Server), nil); err == nil {
		return nil
	}
	text, err := i.Text()
	if err != nil {
		return fmt.Errorf("describe %s: %w", i.Entry.Name, err)
	}
	var out apitype.Imported
	err = t.watching(ctx, i.Server, func() error {
		return t.client.Do(ctx, http.MethodPost, "/api/imports", apitype.Import{Text: text, Apply: true}, &out)
	})
	switch {
	case err != nil:
		return err
	case len(out.Servers) != 1:
		return errors.New("it is not understood")
	case out.Servers[0].Problem != nil:
		p := out.Servers[0].Problem
		return errors.New(strings.TrimSpace(p.Title + ". " + p.Hint))
	}
	s := out.Servers[0].Registered
	m.servers = append(m.servers, s.Name)
	if s.Secret != "" {
		m.secrets = append(m.secrets, s.Secret)
	}
	for _, place := range s.Places {
		m.secrets = append(m.secrets, place.Secret)
	}
	return nil
}

// admitAndVerify gives the agent what it could reach before, and looks whether it would
// get an answer.
func (t atHome) admitAndVerify(ctx context.Context, agent string, taken []adopt.Item, m *made) error {
	for _, i := range taken {
		rule := apitype.NewRule{
			Effect: "admit", Agent: agent, Server: i.Server, Tool: "*", Note: "taken over from " + filepath.Base(i.File), Anyway: true,
		}
		var added apitype.RuleInfo
		err := t.client.Do(ctx, http.MethodPost, "/api/rules", rule, &added)
		if said := told(err); said != nil && said.Status == http.StatusConflict {
			continue // it is admitted already
		}
		if err != nil {
			return err
		}
		m.rules = append(m.rules, added.ID)
	}
	var reach []apitype.ReachedTool
	if err := t.client.Get(ctx, "/api/agents/"+seg(agent)+"/reach", &reach); err != nil {
		return err
	}
	for _, i := range taken {
		answers := slices.ContainsFunc(reach, func(r apitype.ReachedTool) bool { return r.Server == i.Server && r.Next == "answer" })
		if !answers {
			return &failure{
				exitFailure, fmt.Sprintf("no tool of %s would answer through Bouncer; nothing was taken over", i.Server),
				"look at it with bouncer server check " + i.Server,
			}
		}
	}
	return nil
}

// replaceEntries writes the file: Bouncer's entry in the place of those that were taken
// over.
func (o *adoption) replaceEntries(ctx context.Context, t atHome, f adoptedFile, taken []adopt.Item, m made) error {
	e := enrolment{entry: o.entry, life: o.life, dialect: f.choice.Dialect.Name}
	var names []string
	file := f.choice.File
	for _, i := range taken {
		out, err := file.Remove(f.choice.Dialect.At(i.Entry.Name))
		if err == nil {
			file, err = reparsed(out, f.choice.Dialect)
		}
		if err != nil {
			return told2(f.file.Path, err)
		}
		names = append(names, i.Entry.Name)
	}
	f.choice.File = file
	return e.applyAdopted(ctx, t, f.agent, f.plan, names, m)
}

// unmake takes away what was made.
func (t atHome) unmake(ctx context.Context, agent string, m made) (failed error) {
	drop := func(path string) {
		err := t.client.Delete(ctx, path)
		if said := told(err); err != nil && (said == nil || said.Status != http.StatusNotFound) {
			failed = errors.Join(failed, err)
		}
	}
	for _, id := range m.rules {
		drop("/api/rules/" + seg(id))
	}
	for _, name := range m.servers {
		drop("/api/servers/" + seg(name))
	}
	for _, name := range m.secrets {
		drop("/api/secrets/" + seg(name))
	}
	if m.agent {
		drop("/api/agents/" + seg(agent))
	}
	return failed
}

// runUndo puts a file back, and takes away what was made for it.
func (o *adoption) runUndo(ctx context.Context, t atHome, path string) error {
	e, err := t.enrolmentOf(path, o.entry)
	if err != nil {
		return err
	}
	if len(e.Adopted) == 0 {
		return &failure{exitNotFound, "nothing of " + path + " was taken over", "bouncer enrol --undo --config " + path +
			" takes the entry out"}
	}
	undo := enrolment{config: path, entry: o.entry, yes: o.yes, dryRun: o.dryRun, adopted: true}
	if err := undo.runUndo(ctx, t); err != nil || o.dryRun {
		return err
	}
	return t.unmake(ctx, e.Agent, made{servers: e.Servers, secrets: e.Secrets, rules: e.Rules, agent: e.AgentMade})
}

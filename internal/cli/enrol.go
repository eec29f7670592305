package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

// enrolment are the flags of enrol.
type enrolment struct {
	config, dialect, entry, server, as, variable, invite string
	life, wait                                           time.Duration
	dryRun, yes, create                                  bool
	undo, check, watch, all, print                       bool
	adopted                                              bool // what was taken over goes back as well
}

// atHome is a command that is about files on the person's own machine besides the service.
type atHome struct{ *task }

func enrolCommands() []command {
	o := enrolment{life: 90 * day, wait: 2 * time.Minute}
	return []command{{
		noun: "enrol", args: "[AGENT]", short: "Write Bouncer's entry into an assistant's configuration file",
		long: `The entry is written as the assistant wants it (bouncer dialect list); every other byte
of the file stays as it is. The change is shown first, and the old file is kept beside
the new one. --undo puts the very file back, --check tells whether it is as it should
be, --watch keeps it so.`,
		example: "bouncer enrol marit-quill --config ~/.quill/config.json --dry-run\n" +
			"bouncer enrol marit-quill --config ~/.quill/config.json\n" +
			"bouncer enrol --check\n" +
			"bouncer enrol --undo --config ~/.quill/config.json",
		flags: o.define,
		run:   func(ctx context.Context, t *task) error { return o.run(ctx, atHome{t}) },
	}}
}

func (o *enrolment) define(f *flag.FlagSet) {
	f.StringVar(&o.config, "config", "", "the assistant's configuration `file`")
	f.StringVar(&o.dialect, "dialect", "", "`name` of the dialect of the file; found out if left out")
	f.StringVar(&o.entry, "entry", "bouncer", "`name` of the entry")
	f.StringVar(&o.server, "server", "", "enrol for this one server only, by `name`; all within reach, if left out")
	f.StringVar(&o.as, "as", "", "`how` it is let in: pass (address and pass), sign-in (address; it signs in itself) or bridge (a command)")
	f.StringVar(&o.invite, "invite", "", "one-time `code` from another machine (bouncer agent invite); no login is needed then")
	f.StringVar(&o.variable, "pass-variable", "", "keep the pass out of the file: name this `variable` of the environment there")
	f.Var(span.Value{To: &o.life}, "life", "for how `long` the pass is valid, like 12h, 90d or 2w")
	f.Var(span.Value{To: &o.wait}, "wait", "for how `long` to wait for the assistant to appear; 0s for not at all")
	f.BoolVar(&o.create, "create", false, "add the agent when there is none of that name; you own it")
	f.BoolVar(&o.all, "all", false, "enrol in the files of all assistants that are found on this machine")
	f.BoolVar(&o.print, "print", false, "print the entry to paste, and touch no file")
	f.BoolVar(&o.undo, "undo", false, "put the file back as it was, and revoke the pass")
	f.BoolVar(&o.check, "check", false, "tell what is wrong with the file, or with all that were enrolled; exit code 1 for anything")
	f.BoolVar(&o.watch, "watch", false, "keep the entry in the file, whatever rewrites it, until interrupted")
	f.BoolVar(&o.dryRun, "dry-run", false, "show the change and do nothing")
	f.BoolVar(&o.yes, "yes", false, "do not ask before writing")
}

func (o *enrolment) run(ctx context.Context, t atHome) error {
	agent := ""
	if len(t.args) > 0 {
		agent = t.args[0]
	}
	switch {
	case o.entry == "":
		return &usageError{"the flag --entry is empty", "leave it out for an entry named bouncer"}
	case o.as != "" && o.as != enrol.AsPass && o.as != enrol.AsSignIn && o.as != enrol.AsBridge:
		return &usageError{fmt.Sprintf("--as is %q", o.as), "it must be pass, sign-in or bridge"}
	case o.check:
		return o.runCheck(ctx, t)
	case o.config == "" && !o.all && !o.print:
		return &usageError{"the flag --config is missing", "as in: bouncer enrol marit-quill --config ~/.quill/config.json"}
	case o.undo:
		return o.runUndo(ctx, t)
	case o.watch:
		return o.runWatch(ctx, t)
	case o.invite != "" && (o.all || o.print || agent != ""):
		return &usageError{"--invite goes with one --config alone: the code says which agent it is for", "leave the agent out"}
	case o.invite != "":
		return o.runInvited(ctx, t)
	case agent == "":
		return &usageError{"enrol needs AGENT", "as in: bouncer enrol marit-quill --config ~/.quill/config.json"}
	case o.print:
		return o.runPrint(ctx, t, agent)
	}
	paths := []string{o.config}
	if o.all {
		paths = nil
		known, _ := t.machine().Known()
		for _, f := range t.machine().Find(known) {
			paths = append(paths, f.Path)
		}
		if len(paths) == 0 {
			return &failure{
				exitNotFound, "no assistant's file is found on this machine", "name it with --config; bouncer dialect list shows where is looked",
			}
		}
	}
	return o.runEnrol(ctx, t, agent, paths)
}

// machine is the person's machine.
func (t atHome) machine() enrol.Machine {
	home := t.Getenv("HOME")
	if home == "" {
		home, _ = os.UserHomeDir() // without one, no place below it is found
	}
	dir, _ := os.Getwd() // as above
	return enrol.Machine{Home: home, Dir: dir, Dialects: filepath.Join(t.ConfigDir, "dialects"), Getenv: t.Getenv}
}

func (t atHome) book() enrol.Book { return enrol.OpenBook(t.ConfigDir) }

// plan is what is to be done to one file.
type plan struct {
	file    enrol.File
	choice  enrol.Choice
	as      string
	address string // of the service
	entry   dialect.Entry
}

// chosen is the dialect of a file: the one that was named, else the one that fits.
func (o *enrolment) chosen(t atHome, f enrol.File) (c enrol.Choice, err error) {
	m := t.machine()
	known, problems := m.Known()
	for _, p := range problems {
		fmt.Fprintf(t.Err, "a dialect is passed over: %v\n", p)
	}
	if o.dialect == "" {
		c, err = m.Choose(known, f)
		return c, told2(f.Path, err)
	}
	for _, d := range known {
		if d.Name == o.dialect {
			c.Dialect = d
			c.File, err = configfile.Parse(f.Raw, d.Syntax)
			return c, told2(f.Path, err)
		}
	}
	return c, &failure{exitNotFound, fmt.Sprintf("there is no dialect %q", o.dialect), "bouncer dialect list shows what there is"}
}

// told2 puts what is wrong with a file into words.
func told2(path string, err error) error {
	var syntax *configfile.SyntaxError
	var unclear *enrol.UnclearError
	var written *configfile.WrittenError
	switch {
	case errors.As(err, &syntax):
		return &failure{exitFailure, fmt.Sprintf("%s cannot be read: %v", path, syntax), "mend the file there; it was left as it is"}
	case errors.As(err, &unclear) && len(unclear.Candidates) > 0:
		return &failure{exitFailure, unclear.Error(), "pick one: bouncer dialect learn " + path}
	case errors.As(err, &unclear):
		return &failure{
			exitFailure, unclear.Error(), "name its dialect with --dialect (bouncer dialect list), or describe it: bouncer dialect add -h",
		}
	case errors.As(err, &written):
		return &failure{exitFailure, fmt.Sprintf("%s: %v", path, written), "paste the entry by hand: bouncer enrol AGENT --print"}
	}
	var file *enrol.FileError
	if errors.As(err, &file) {
		return &failure{exitFailure, file.Error(), "check the path and its permissions; the file was left as it is"}
	}
	return err
}

const passPlaceholder = "(a new pass)"

func (o *enrolment) prepare(ctx context.Context, t atHome, agent, path string) (p plan, err error) {
	if p.file, err = enrol.Read(path); err != nil {
		return p, told2(path, err)
	}
	if p.choice, err = o.chosen(t, p.file); err != nil {
		return p, err
	}
	if l := p.choice.Learned; l != nil {
		fmt.Fprintf(
			t.Err,
			"%s: no dialect is known for it; it keeps its servers in %s, as was worked out from it\n",
			path,
			l.Dialect.Servers,
		)
		for _, g := range l.Guessed {
			fmt.Fprintf(t.Err, "  a guess: %s\n", g)
		}
	}
	var about apitype.About
	if err := t.client.Get(ctx, "/api/about", &about); err != nil {
		return p, err
	}
	if o.server != "" {
		if err := t.client.Get(ctx, "/api/servers/"+seg(o.server), nil); err != nil {
			return p, err
		}
	}
	p.address = about.Address
	p.as = o.way(p.choice)
	p.entry, err = o.entryFor(t, p, agent, passPlaceholder)
	return p, err
}

// way is how an assistant is let in: as it was said, else the best that it can do.
func (o *enrolment) way(c enrol.Choice) string {
	guessed := c.Learned != nil && c.Learned.RemoteGuessed()
	switch d := c.Dialect; {
	case o.as != "":
		return o.as
	case d.Remote == nil || guessed && d.Command != nil:
		return enrol.AsBridge
	case d.Remote.Headers == "":
		return enrol.AsSignIn
	}
	return enrol.AsPass
}

// entryFor is the entry of an assistant, with a pass, or what stands for it.
func (o *enrolment) entryFor(t atHome, p plan, agent, pass string) (dialect.Entry, error) {
	e := dialect.Entry{Name: o.entry}
	if p.as == enrol.AsBridge {
		self, err := os.Executable()
		if err != nil {
			return e, fmt.Errorf("find this program: %w", err)
		}
		e.Command, e.Args = self, []string{"bridge", "--address", p.address, "--pass-file", t.passFile(agent, p.file.Real)}
		if o.server != "" {
			e.Args = append(e.Args, "--server", o.server)
		}
		return e, nil
	}
	e.URL = p.address + "/mcp"
	if o.server != "" {
		e.URL += "/" + o.server
	}
	if p.as == enrol.AsSignIn {
		return e, nil
	}
	if o.variable != "" {
		ref := p.choice.Dialect.Reference
		if ref == "" {
			return e, &failure{
				exitFailure, p.choice.Dialect.Name + " does not say how a variable is named in its file",
				"add reference to the dialect (bouncer dialect show), or keep the pass out of the file with --as bridge",
			}
		}
		pass = strings.Replace(ref, "NAME", o.variable, 1)
	}
	e.Headers = []dialect.Value{{Name: "Authorization", Value: "Bearer " + pass}}
	return e, nil
}

// passFile is where the pass of an agent is kept for the bridge.
func (t atHome) passFile(agent, config string) string {
	return filepath.Join(t.ConfigDir, "passes", agent+"-"+shortSum(config))
}

// written is the content of a file with an entry in it.
func (p plan) written(e dialect.Entry) ([]byte, error) {
	o, err := p.choice.Dialect.Write(e)
	if err != nil {
		return nil, &failure{exitFailure, err.Error(), "another way may do: --as pass, sign-in or bridge"}
	}
	out, err := p.choice.File.Put(p.choice.Dialect.At(e.Name), o)
	return out, told2(p.file.Path, err)
}

func (o *enrolment) runEnrol(ctx context.Context, t atHome, agent string, paths []string) error {
	exists, err := t.agentExists(ctx, agent)
	if err != nil {
		return err
	}
	var plans []plan
	for _, path := range paths {
		p, err := o.prepare(ctx, t, agent, path)
		if err == nil {
			err = t.showPlan(p)
		}
		if err != nil && o.all {
			fmt.Fprintf(t.Err, "%s is left out: %v\n", path, err)
			continue
		}
		if err != nil {
			return err
		}
		plans = append(plans, p)
	}
	switch {
	case len(plans) == 0:
		return &failure{exitFailure, "nothing was written", "mend what is said above, or name one file with --config"}
	case !exists && !o.create:
		return &failure{
			exitNotFound,
			fmt.Sprintf("there is no agent %q", agent),
			"add --create to add it, or check the spelling with bouncer agent list",
		}
	case o.dryRun:
		return t.done("dry run: nothing was written, no pass was made")
	}
	if err := t.confirm(o.yes); err != nil {
		return err
	}
	if !exists {
		if err := t.addAgent(ctx, agent, plans[0].choice.Dialect.Name); err != nil {
			return err
		}
	}
	for _, p := range plans {
		if err := o.apply(ctx, t, agent, p); err != nil {
			return err
		}
	}
	return o.awaitContact(ctx, t, agent, plans[0])
}

func (t atHome) addAgent(ctx context.Context, agent, kind string) error {
	var me team.Person
	if err := t.client.Get(ctx, "/api/session", &me); err != nil {
		return err
	}
	in := apitype.NewAgent{Name: agent, Owner: me.Name, Kind: kind}
	return t.client.Do(ctx, http.MethodPost, "/api/agents", in, nil)
}

// enrolled is what was done, for programs.
type enrolled struct {
	Agent   string     `json:"agent"`
	Config  string     `json:"config"`
	Dialect string     `json:"dialect"`
	As      string     `json:"as"`
	Backup  string     `json:"backup,omitempty"`
	Pass    *team.Pass `json:"pass,omitempty"`
}

// apply makes the pass and writes the file; when the file cannot be written the pass is
// revoked again, so that nothing is left half-done.
func (o *enrolment) apply(ctx context.Context, t atHome, agent string, p plan) error {
	return o.applyAdopted(ctx, t, agent, p, nil, made{})
}

// applyAdopted is apply, for a file whose entries of some names were taken over: they
// are out of p.choice.File already, and m was made for them.
func (o *enrolment) applyAdopted(ctx context.Context, t atHome, agent string, p plan, names []string, m made) (err error) {
	e := enrol.Enrolment{
		Path: p.file.Real, Dialect: p.choice.Dialect, Entry: o.entry, Agent: agent, Service: p.address, Server: o.server, As: p.as,
		At: time.Now().UTC(), Created: !p.file.Exists, Mode: p.file.Mode, Had: p.choice.File.Find(p.choice.Dialect.At(o.entry)) != nil,
	}
	e.Adopted, e.Servers, e.Secrets, e.Rules, e.AgentMade = names, m.servers, m.secrets, m.rules, m.agent
	out := enrolled{Agent: agent, Config: p.file.Path, Dialect: p.choice.Dialect.Name, As: p.as}
	pass := ""
	if p.as != enrol.AsSignIn {
		var made apitype.IssuedPass
		if made, err = o.issue(ctx, t, &agent, p); err != nil {
			return err
		}
		e.Agent, out.Agent = agent, agent
		out.Pass, e.PassID, pass = &made.Pass, made.Pass.ID, made.Token
		defer func() {
			if err != nil {
				err = errors.Join(err, giveBack(context.WithoutCancel(ctx), t.client, made.Token))
			}
		}()
	}
	entry, err := o.entryFor(t, p, agent, pass)
	if err != nil {
		return err
	}
	after, err := p.written(entry)
	if err != nil {
		return err
	}
	if p.as == enrol.AsBridge {
		e.PassFile = t.passFile(agent, p.file.Real)
		if err := writeSecretFile(e.PassFile, pass); err != nil {
			return err
		}
	}
	w, err := p.file.Write(after, p.as == enrol.AsPass && o.variable == "")
	if err != nil {
		return told2(p.file.Path, err)
	}
	e.Backup, e.Closed = w.Backup, w.Closed
	e.Differ(p.file.Raw, after)
	if err := errors.Join(t.follow(&e, p.file, after), t.book().Put(e)); err != nil {
		return errors.Join(err, p.file.Revert(after, w))
	}
	out.Backup = w.Backup
	if t.json {
		return t.writeJSON(out)
	}
	return o.tellEnrolled(t, p, e, out, pass)
}

// follow lets an enrolment lead back to what was before the first one of its entry.
func (t atHome) follow(e *enrol.Enrolment, file enrol.File, after []byte) error {
	have, ok, err := t.book().Of(e.Path, e.Entry)
	if err != nil || !ok {
		return err
	}
	return e.Follow(have, file.Raw, after)
}

func (o *enrolment) tellEnrolled(t atHome, p plan, e enrol.Enrolment, out enrolled, pass string) error {
	until := ""
	if out.Pass != nil {
		until = " with a pass that is valid until " + out.Pass.Expires.Local().Format(time.DateOnly)
	}
	reached := p.entry.URL
	if p.as == enrol.AsBridge {
		reached = p.address + " through the bridge"
	}
	lines := []string{fmt.Sprintf("%s is enrolled: %s reaches %s%s", e.Agent, out.Config, reached, until)}
	if out.Backup != "" {
		lines = append(lines, "the old file is kept as "+out.Backup)
	}
	if e.Closed {
		lines = append(lines, "others could read the file, and cannot any more, since it holds a pass now; --undo opens it again")
	}
	if o.variable != "" && p.as == enrol.AsPass {
		lines = append(lines, fmt.Sprintf("set the variable where the assistant starts: export %s=%s", o.variable, pass))
	}
	if p.choice.Dialect.Restart {
		lines = append(lines, "restart the assistant: it reads its file at its start")
	}
	verb := "enrol"
	if len(e.Adopted) > 0 {
		verb = "adopt"
	}
	lines = append(lines, fmt.Sprintf("to take it back: bouncer %s --undo --config %s", verb, out.Config))
	for _, line := range lines {
		if err := t.done("%s", line); err != nil {
			return err
		}
	}
	return nil
}

// issue comes by a pass: by the code, which says whose it is, or as a person.
func (o *enrolment) issue(ctx context.Context, t atHome, agent *string, p plan) (apitype.IssuedPass, error) {
	if o.invite == "" {
		return t.passFor(ctx, *agent, p.file.Real, o.life)
	}
	got, err := o.redeem(ctx, t, p.choice.Dialect.Name)
	*agent = got.Agent
	return apitype.IssuedPass{Pass: got.Pass, Token: got.Token}, err
}

// runInvited enrols by a code. All that can fail here is done before it is used.
func (o *enrolment) runInvited(ctx context.Context, t atHome) error {
	if o.as == enrol.AsSignIn {
		return &usageError{"a code gives a pass, and --as sign-in takes none", "leave one of them out"}
	}
	p, err := o.prepare(ctx, t, "invited", o.config)
	if err != nil {
		return err
	}
	if p.as == enrol.AsSignIn {
		p.as = enrol.AsBridge
		if p.entry, err = o.entryFor(t, p, "invited", passPlaceholder); err != nil {
			return err
		}
	}
	if err := t.showPlan(p); err != nil {
		return err
	}
	if o.dryRun {
		return t.done("dry run: nothing was written, the code was not used")
	}
	if err := t.confirm(o.yes); err != nil {
		return err
	}
	return o.apply(ctx, t, "", p)
}

// passFor makes a pass for a file.
func (t atHome) passFor(ctx context.Context, agent, path string, life time.Duration) (p apitype.IssuedPass, err error) {
	host, _ := os.Hostname() // it is only a label
	in := apitype.NewPass{Label: "enrolled in " + filepath.Base(path) + " on " + host}
	in.Days, in.Hours = daysAndHours(life)
	err = t.client.Do(ctx, http.MethodPost, "/api/agents/"+seg(agent)+"/passes", in, &p)
	return p, err
}

func (t atHome) agentExists(ctx context.Context, name string) (bool, error) {
	err := t.client.Get(ctx, "/api/agents/"+seg(name), nil)
	if said := told(err); said != nil && said.Status == http.StatusNotFound {
		return false, nil
	}
	return err == nil, err
}

func (t atHome) confirm(yes bool) error {
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

// runPrint prints the entry of an assistant, with a new pass where one is needed.
func (o *enrolment) runPrint(ctx context.Context, t atHome, agent string) error {
	p := plan{file: enrol.File{Path: o.config, Real: o.config}}
	if o.dialect == "" && o.config == "" {
		o.dialect = dialect.Common
	}
	if o.config != "" {
		var err error
		if p.file, err = enrol.Read(o.config); err != nil {
			return told2(o.config, err)
		}
	}
	var err error
	if p.choice, err = o.chosen(t, p.file); err != nil {
		return err
	}
	var about apitype.About
	if err := t.client.Get(ctx, "/api/about", &about); err != nil {
		return err
	}
	p.address, p.as = about.Address, o.way(p.choice)
	pass := "PASS"
	if p.as != enrol.AsSignIn && o.yes {
		made, err := t.passFor(ctx, agent, "a snippet", o.life)
		if err != nil {
			return err
		}
		pass = made.Token
	}
	entry, err := o.entryFor(t, p, agent, pass)
	if err != nil {
		return err
	}
	if p.as == enrol.AsBridge && o.yes {
		if err := writeSecretFile(t.passFile(agent, p.file.Real), pass); err != nil {
			return err
		}
	}
	text, err := p.choice.Dialect.Snippet(entry)
	if err != nil {
		return &failure{exitFailure, err.Error(), "another way may do: --as pass, sign-in or bridge"}
	}
	fmt.Fprint(t.Out, text)
	if p.as != enrol.AsSignIn && !o.yes {
		fmt.Fprintf(t.Err, "PASS stands for a pass: bouncer agent pass %s makes one, and so does --yes here\n", agent)
	}
	return nil
}

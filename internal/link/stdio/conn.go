// Package stdio is the transport to a local process: messages by lines over its
// standard input and output. The process is started in a group of its own, kept
// within limits where the system can, and ended with all that it started.
package stdio

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/mux"
	"bouncer/internal/locker"
	"bouncer/internal/spawn"
)

// Command is a tool server that is started as a local process and spoken with
// over its standard input and output (MCP, stdio transport).
type Command struct {
	Server  string
	Command string // a name in PATH, or an absolute path
	Args    []string
	Dir     string            // working directory; "" for the service's own
	Env     map[string]string // the process gets these and inherited, nothing else
	// SecretEnv is the name of the variable that carries Secret; "" for none.
	SecretEnv string
	Secret    locker.Secret
	// Vars gives the variables that carry secrets when the process is started,
	// instead of SecretEnv; nil for none.
	Vars   func(context.Context) ([]link.Var, error)
	Used   link.Used
	Limits Limits
}

// Conn is a conversation with a local process. The process is started when
// it is first needed and kept; all agents share it.
type Conn struct {
	*base.Base
	c       Command
	spawner *spawn.Spawner
	opening base.Opening[launched]
	current atomic.Pointer[process] // nil while there is none
}

// New prepares a conversation; nothing is started yet.
func New(c Command, o link.Options) *Conn {
	p := &Conn{Base: base.New(c.Server, o, c.Secret.Reveal()), c: c, spawner: o.Spawner}
	p.Process = true
	if p.spawner == nil {
		// For those who configure nothing; without a user there is nothing to go wrong.
		p.spawner, _ = spawn.New(spawn.Options{})
	}
	return p
}

// launched is a child with an open session, and how long its steps took; stages is
// empty for one that ran already.
type launched struct {
	process *process
	stages  []team.Stage
}

// Fork implements Transport: the other conversation has a process of its own.
func (p *Conn) Fork(caps wire.Caps, _ bool) link.Transport {
	n := New(p.c, p.Options)
	n.Caps = caps
	return n
}

// Traits implements Transport.
func (p *Conn) Traits() link.Traits { return link.Traits{StartsProcess: true} }

// Open implements Transport.
func (p *Conn) Open(ctx context.Context) (link.Greeting, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return link.Greeting{}, err
	}
	return c.greeting, nil
}

// open returns a running child with an open session, and starts one if need be.
func (p *Conn) open(ctx context.Context) (*process, []team.Stage, error) {
	if c := p.current.Load(); c != nil && !c.Over() {
		return c, nil, nil
	}
	s, err := p.opening.Do(ctx, max(longestStart, p.Options.SetupTimeout), func(ctx context.Context) (launched, error) {
		if c := p.current.Load(); c != nil && !c.Over() {
			return launched{process: c}, nil
		}
		return p.launch(ctx)
	})
	if err != nil {
		return nil, s.stages, p.NetFailure(ctx, err, "initialize")
	}
	return s.process, s.stages, nil
}

// longestStart is how long a process may take to answer initialize as long as it keeps
// writing to standard error: a package runner that downloads first. In silence it has
// link.Options.SetupTimeout.
const longestStart = 5 * time.Minute

// launch starts the process and opens the session.
func (p *Conn) launch(ctx context.Context) (launched, error) {
	stderr := &tailBuffer{words: func(text []byte) { p.Heard(link.Stderr, text) }}
	k := p.Stages(func() string { return p.Short(lastLine(p.Masker.Text(stderr.String()))) })
	defer k.End()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	silence := time.AfterFunc(p.Options.SetupTimeout, func() { stop(context.DeadlineExceeded) })
	defer silence.Stop()
	stderr.heard = func() {
		if ctx.Err() == nil {
			silence.Reset(p.Options.SetupTimeout)
		}
	}
	k.At("launch")
	c, err := p.start(ctx, stderr)
	k.Lap("launch", err)
	if err != nil {
		return launched{stages: k.List()}, err
	}
	silence.Reset(p.Options.SetupTimeout)
	k.At("initialize")
	c.greeting, err = p.initialize(ctx, c)
	k.Lap("initialize", err)
	if err != nil {
		c.stop(ctx)
		return launched{stages: k.List()}, err
	}
	if !wire.Stateless(c.greeting.Revision) {
		p.Restore(ctx, func(ctx context.Context, a *link.Ask) (link.Exchange, error) { return c.Begin(ctx, a, nil) })
	}
	p.current.Store(c)
	return launched{c, k.List()}, nil
}

// initialize opens the session with a fresh child. A process that speaks the
// stateless era only says so in its refusal (MCP 2026-07-28, versioning); asking
// with server/discover first would cost every other process its start, since
// some take nothing but initialize as their first message.
func (p *Conn) initialize(ctx context.Context, c *process) (link.Greeting, error) {
	x, err := c.Begin(ctx, base.NewRequest("initialize", p.InitializeParams(), "initialize"), nil)
	if err != nil {
		return link.Greeting{}, err
	}
	defer x.Close()
	frame, f, err := base.ReadAnswer(ctx, x)
	if err != nil {
		return link.Greeting{}, err
	}
	if !f.Error.Empty() {
		if e := wire.ReadError(frame, f.Error); e.Code == wire.CodeNoRevision || e.Code == wire.CodeMethodNotFound {
			if g, ok := p.discover(ctx, c); ok {
				return g, nil
			}
		}
	}
	g, err := p.ReadGreeting(frame, f)
	if err != nil {
		return link.Greeting{}, err
	}
	if c.Write(ctx, wire.AppendNotification(nil, "notifications/initialized", nil)) != nil {
		return link.Greeting{}, p.gone(c, "initialize")
	}
	return g, nil
}

func (p *Conn) discover(ctx context.Context, c *process) (link.Greeting, bool) {
	a := base.NewRequest("server/discover", nil, "initialize")
	x, err := c.Begin(ctx, a, wire.Envelope(wire.NewestStateless, wire.Caps{}, p.ClientInfo(), ""))
	if err != nil {
		return link.Greeting{}, false
	}
	defer x.Close()
	frame, f, err := base.ReadAnswer(ctx, x)
	if err != nil || f.Result.Empty() {
		return link.Greeting{}, false
	}
	return p.ReadDiscovery(f.Result.Of(frame))
}

// begin sends a request as the child's revision wants it.
func (p *Conn) begin(ctx context.Context, c *process, a *link.Ask) (link.Exchange, error) {
	if !wire.Stateless(c.greeting.Revision) {
		return c.Begin(ctx, a, nil)
	}
	info := a.Client.Info
	if info == nil {
		info = p.ClientInfo()
	}
	return c.Begin(ctx, a, wire.Envelope(c.greeting.Revision, a.Client.Caps, info, a.Client.Level))
}

// start starts the process, or says why it cannot be.
func (p *Conn) start(ctx context.Context, stderr *tailBuffer) (_ *process, err error) {
	path, err := p.find()
	if err != nil {
		return nil, err
	}
	env, files, err := Environment(ctx, p.c, p.spawner)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, files.Remove())
		}
	}()
	inR, inW, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	outR, outW, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, inR.Close(), inW.Close())
	}
	c := &process{stdin: inW, stderr: stderr, started: time.Now(), files: look(path, p.c.Dir, p.c.Args)}
	c.Mux = mux.New(p.Base, c.send)
	c.Late, c.Gone = c.silence, func(stage string) error { return p.gone(c, stage) }
	c.cmd = &exec.Cmd{
		Path:   path,
		Args:   append([]string{p.c.Command}, p.c.Args...),
		Dir:    p.c.Dir,
		Env:    env,
		Stdin:  inR,
		Stdout: outW,
		Stderr: c.stderr,
		// No waiting for ever on a grandchild that holds stderr open.
		WaitDelay: 2 * time.Second,
	}
	most := 0
	if p.c.Limits.Processes > 0 {
		most = p.c.Limits.Processes + 1 // one more, so that a trial can be made
	}
	c.spawned, err = p.spawner.Start(ctx, c.cmd, p.c.Server, most)
	closed := errors.Join(inR.Close(), outW.Close())
	if err != nil {
		c.End()
		return nil, errors.Join(p.notStarted(err), closed, inW.Close(), outR.Close())
	}
	p.c.Limits.apply(c.cmd.Process.Pid)
	read := make(chan struct{})
	go func() { defer close(read); p.read(c, outR) }()
	guarded := make(chan struct{})
	go func() { defer close(guarded); c.guard(p.c.Limits) }()
	go func() {
		err := c.cmd.Wait()
		c.spawned.Ended() // and whatever the process left behind
		// What it wrote last is still read, but not for long.
		_ = outR.SetReadDeadline(time.Now().Add(time.Second))
		<-read
		_ = errors.Join(outR.Close(), inW.Close())
		_ = files.Remove() // what stays is swept up at the next start
		c.exit = err
		c.End()
		<-guarded
	}()
	return c, nil
}

// notStarted says why a process could not be started.
func (p *Conn) notStarted(err error) error {
	var full *gate.FullError
	switch {
	case errors.As(err, new(spawn.OffError)):
		return p.Fail(diagnosis.Evidence{Stage: "launch", What: diagnosis.ProcessesOff}, err)
	case errors.As(err, &full):
		return p.Fail(diagnosis.Evidence{Stage: "launch", What: diagnosis.TooManyProcesses, Note: full.Error()}, err)
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	}
	return p.Fail(diagnosis.Evidence{Stage: "launch", What: diagnosis.NotExecutable, Note: plainError(err)}, err)
}

// find looks for the command as a person would, and tells the usual mistakes
// apart.
func (p *Conn) find() (string, error) {
	fail := func(what diagnosis.Cause, note string) (string, error) {
		return "", p.Fail(diagnosis.Evidence{Stage: "launch", What: what, Note: note}, nil)
	}
	if p.c.Dir != "" {
		if info, err := os.Stat(p.c.Dir); err != nil || !info.IsDir() {
			return fail(diagnosis.DirMissing, p.c.Dir)
		}
	}
	if strings.Contains(p.c.Command, "/") && !filepath.IsAbs(p.c.Command) {
		return fail(diagnosis.RelativePath, p.c.Command)
	}
	path, err := exec.LookPath(p.c.Command)
	switch {
	case err == nil:
		return path, nil
	case errors.Is(err, fs.ErrPermission):
		return fail(diagnosis.NotExecutable, p.c.Command)
	case strings.ContainsAny(p.c.Command, " \t"):
		return fail(diagnosis.LineInCommand, p.Short(p.c.Command))
	}
	return fail(diagnosis.CommandNotFound, p.Short(p.c.Command))
}

func plainError(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// Probe implements link.Transport.
func (p *Conn) Probe(ctx context.Context) (link.Offer, []team.Stage, error) {
	_, stages, err := p.open(ctx)
	if err != nil {
		return link.Offer{}, stages, err
	}
	k := p.Stages(nil)
	defer k.End()
	k.At("tools")
	o, err := p.Offer(ctx)
	k.Lap("tools", err)
	return o, append(stages, k.List()...), err
}

// Offer implements link.Transport.
func (p *Conn) Offer(ctx context.Context) (link.Offer, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return link.Offer{}, err
	}
	return p.ReadOffer(
		ctx,
		c.greeting,
		base.AskBy(func(ctx context.Context, a *link.Ask) (link.Exchange, error) { return p.begin(ctx, c, a) }),
	)
}

// Begin implements link.Transport.
func (p *Conn) Begin(ctx context.Context, a *link.Ask) (link.Exchange, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return nil, err
	}
	return p.begin(ctx, c, a)
}

// Cancel implements link.Transport.
func (p *Conn) Cancel(ctx context.Context, id uint64, reason string) error {
	c := p.current.Load()
	if c == nil || c.Over() {
		return nil
	}
	return c.Write(ctx, base.Cancelled(id, reason))
}

// Revision implements link.Transport.
func (p *Conn) Revision() string {
	if c := p.current.Load(); c != nil {
		return c.greeting.Revision
	}
	return ""
}

// Notify implements link.Transport.
func (p *Conn) Notify(ctx context.Context, method string, params []byte) error {
	c := p.current.Load()
	if c == nil || c.Over() || wire.Stateless(c.greeting.Revision) {
		return nil
	}
	return c.Write(ctx, wire.AppendNotification(nil, method, params))
}

// Subscribe implements link.Transport.
func (p *Conn) Subscribe(ctx context.Context, uri string, on bool) error {
	c, _, err := p.open(ctx)
	if err != nil {
		return err
	}
	if wire.Stateless(c.greeting.Revision) {
		return p.Fail(
			diagnosis.Evidence{
				Stage: "subscribe",
				What:  diagnosis.NotOffered,
				Note:  "in its revision they belong to an event stream, which a local process has not",
			},
			nil,
		)
	}
	return p.SubscribeBy(ctx, c.greeting, uri, on, p.Begin)
}

// Log implements link.Transport.
func (p *Conn) Log(ctx context.Context, level string) error {
	c, _, err := p.open(ctx)
	if err != nil {
		return err
	}
	return p.RaiseLevel(ctx, c.greeting, level, p.Begin)
}

// Close implements Link: it ends the process as the standard asks.
func (p *Conn) Close(ctx context.Context) {
	p.opening.Close()
	if c := p.current.Swap(nil); c != nil {
		c.stop(ctx)
	}
}

// Listen implements Transport: everything comes over standard output.
func (p *Conn) Listen(ctx context.Context, ready func()) bool {
	ready()
	c := p.current.Load()
	if c == nil {
		return true
	}
	select {
	case <-c.Ended:
		return base.CoolDown(ctx, c.started)
	case <-ctx.Done():
		return true
	}
}

// Diagnostics implements Transport.
func (p *Conn) Diagnostics() link.Diagnostics {
	c := p.current.Load()
	if c == nil {
		return link.Diagnostics{}
	}
	d := link.Diagnostics{Stderr: p.Masker.Text(c.stderr.String()), Noise: int(c.noise.Load())}
	if !c.Over() {
		d.PID, d.Started = c.cmd.Process.Pid, c.started
	}
	return d
}

// Altered implements Transport.
func (p *Conn) Altered() string {
	c := p.current.Load()
	if c == nil || c.Over() {
		return ""
	}
	return c.files.altered()
}

// gone says why a process is no longer there.
func (p *Conn) gone(c *process, stage string) error {
	select {
	case <-c.Ended:
	case <-time.After(time.Second):
		return p.Fail(diagnosis.Evidence{Stage: stage, What: diagnosis.OutcomeUnknown, Note: "the process does not read its input"}, nil)
	}
	what := diagnosis.OutcomeUnknown
	if stage == "initialize" {
		what = diagnosis.ExitsAtOnce
		if c.noise.Load() > 0 {
			what = diagnosis.NoiseOnStdout
		}
	}
	note := "the process ended"
	if over := c.excess.Load(); over != nil {
		return p.Fail(diagnosis.Evidence{Stage: stage, What: diagnosis.OverLimit, Note: *over}, c.exit)
	}
	var exit *exec.ExitError
	if errors.As(c.exit, &exit) {
		if ws, ok := exit.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
			note = "the process was ended by the signal " + ws.Signal().String()
			if stage == "initialize" {
				what = diagnosis.Killed
			}
		} else {
			note = fmt.Sprintf("the process ended with code %d", exit.ExitCode())
		}
	}
	words := diagnosis.ReadStderr(p.Masker.Text(c.stderr.String()))
	if words.Line != "" {
		note += ", having written: " + p.Short(words.Line)
	}
	if what == diagnosis.ExitsAtOnce {
		// What was given wrongly is told before what the program made of it.
		if cause, about := p.misgiven(); cause != "" {
			return p.Fail(diagnosis.Evidence{Stage: stage, What: cause, Note: about}, c.exit)
		}
		if words.Cause != "" {
			what = words.Cause
		}
	}
	return p.Fail(diagnosis.Evidence{Stage: stage, What: what, Note: note, Wrote: words}, c.exit)
}

// runners are the programs whose first argument is a file.
var runners = map[string]bool{
	"node": true, "python": true, "python3": true, "ruby": true, "perl": true, "php": true, "sh": true, "bash": true, "deno": true, "bun": true,
}

// misgiven looks for what is wrong with the arguments of a process that ended at once.
func (p *Conn) misgiven() (cause diagnosis.Cause, about string) {
	for _, arg := range p.c.Args {
		first, rest, several := strings.Cut(arg, " ")
		if several && rest != "" && (strings.HasPrefix(first, "-") || filepath.Ext(first) != "") && !isFile(p.c.Dir, arg) {
			return diagnosis.GluedArguments, p.Short(arg)
		}
	}
	if !runners[strings.TrimSuffix(filepath.Base(p.c.Command), ".exe")] || len(p.c.Args) == 0 {
		return "", ""
	}
	script := p.c.Args[0]
	if strings.HasPrefix(script, "-") || (filepath.Ext(script) == "" && !strings.Contains(script, "/")) || isFile(p.c.Dir, script) {
		return "", ""
	}
	about = script
	switch {
	case filepath.IsAbs(script):
	case p.c.Dir == "":
		about += " (a relative path, and no working directory is given)"
	default:
		about += " in " + p.c.Dir
	}
	return diagnosis.ScriptMissing, p.Short(about)
}

func isFile(dir, path string) bool {
	if !filepath.IsAbs(path) {
		if dir == "" {
			return false
		}
		path = filepath.Join(dir, path)
	}
	_, err := os.Stat(path)
	return err == nil
}

// read distributes what the process writes, until it stops.
func (p *Conn) read(c *process, out *os.File) {
	lines := newLineReader(out, p.Options.MessageLimit)
	for {
		line, head, tail, err := lines.next()
		if err != nil {
			return
		}
		if line == nil { // too long: the call concerned is told
			c.TooLarge(head, tail, p.Options.MessageLimit)
			continue
		}
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		f, err := wire.ReadFrame(line)
		if err != nil {
			c.noise.Add(1)
			p.Heard(link.Noise, line)
			continue
		}
		c.Take(line, f)
	}
}

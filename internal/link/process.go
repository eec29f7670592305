package link

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
	"bouncer/internal/locker"
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
	Vars   func(context.Context) ([]Var, error)
	Used   Used
	Limits Limits
}

// inherited are the only variables of the service's own environment that a
// process gets: what package runners cannot do without.
var inherited = []string{"PATH", "HOME", "LANG", "TMPDIR", "TZ"}

// Process is a conversation with a local process. The process is started when
// it is first needed and kept; all agents share it.
type Process struct {
	*base
	c       Command
	opening opening[started]
	child   atomic.Pointer[child] // nil while there is none
}

// NewProcess prepares a conversation; nothing is started yet.
func NewProcess(c Command, o Options) *Process {
	return &Process{base: newBase(c.Server, o, c.Secret.Reveal()), c: c}
}

// started is a child with an open session, and how long its steps took; stages is
// empty for one that ran already.
type started struct {
	child  *child
	stages []team.Stage
}

// Fork implements Transport: the other conversation has a process of its own.
func (p *Process) Fork(caps wire.Caps, _ bool) Transport {
	n := NewProcess(p.c, p.o)
	n.caps = caps
	return n
}

// Traits implements Transport.
func (p *Process) Traits() Traits { return Traits{StartsProcess: true} }

// Open implements Transport.
func (p *Process) Open(ctx context.Context) (Greeting, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return Greeting{}, err
	}
	return c.greeting, nil
}

// open returns a running child with an open session, and starts one if need be.
func (p *Process) open(ctx context.Context) (*child, []team.Stage, error) {
	if c := p.child.Load(); c != nil && !c.over() {
		return c, nil, nil
	}
	s, err := p.opening.do(ctx, p.o.SetupTimeout, func(ctx context.Context) (started, error) {
		if c := p.child.Load(); c != nil && !c.over() {
			return started{child: c}, nil
		}
		return p.launch(ctx)
	})
	if err != nil {
		return nil, s.stages, p.netFail(ctx, err, "initialize")
	}
	return s.child, s.stages, nil
}

// launch starts the process and opens the session.
func (p *Process) launch(ctx context.Context) (started, error) {
	k := newClock(p.short)
	c, err := p.start(ctx)
	k.lap("launch", err)
	if err != nil {
		return started{stages: k.stages()}, err
	}
	c.greeting, err = p.shake(ctx, c)
	k.lap("initialize", err)
	if err != nil {
		c.stop(ctx)
		return started{stages: k.stages()}, err
	}
	if !wire.Stateless(c.greeting.Revision) {
		p.settle(ctx, func(ctx context.Context, a *Ask) (Exchange, error) { return c.begin(ctx, a, nil) })
	}
	p.child.Store(c)
	return started{c, k.stages()}, nil
}

// shake opens the session with a fresh child. A process that speaks the
// stateless era only says so in its refusal (MCP 2026-07-28, versioning); asking
// with server/discover first would cost every other process its start, since
// some take nothing but initialize as their first message.
func (p *Process) shake(ctx context.Context, c *child) (Greeting, error) {
	x, err := c.begin(ctx, own("initialize", p.hello(), "initialize"), nil)
	if err != nil {
		return Greeting{}, err
	}
	defer x.Close()
	frame, f, err := answer(ctx, x)
	if err != nil {
		return Greeting{}, err
	}
	if !f.Error.Empty() {
		if e := wire.ReadError(frame, f.Error); e.Code == wire.CodeNoRevision || e.Code == wire.CodeMethodNotFound {
			if g, ok := p.discover(ctx, c); ok {
				return g, nil
			}
		}
	}
	g, err := p.readGreeting(frame, f)
	if err != nil {
		return Greeting{}, err
	}
	return g, c.write(ctx, wire.AppendNotification(nil, "notifications/initialized", nil))
}

func (p *Process) discover(ctx context.Context, c *child) (Greeting, bool) {
	a := own("server/discover", nil, "initialize")
	x, err := c.begin(ctx, a, wire.Envelope(wire.NewestStateless, wire.Caps{}, p.info(), ""))
	if err != nil {
		return Greeting{}, false
	}
	defer x.Close()
	frame, f, err := answer(ctx, x)
	if err != nil || f.Result.Empty() {
		return Greeting{}, false
	}
	return p.readDiscovery(f.Result.Of(frame))
}

// begin sends a request as the child's revision wants it.
func (p *Process) begin(ctx context.Context, c *child, a *Ask) (Exchange, error) {
	if !wire.Stateless(c.greeting.Revision) {
		return c.begin(ctx, a, nil)
	}
	info := a.Client.Info
	if info == nil {
		info = p.info()
	}
	return c.begin(ctx, a, wire.Envelope(c.greeting.Revision, a.Client.Caps, info, a.Client.Level))
}

// start starts the process, or says why it cannot be.
func (p *Process) start(ctx context.Context) (_ *child, err error) {
	path, err := p.find()
	if err != nil {
		return nil, err
	}
	secrets, dir, err := p.secretVars(ctx)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil && dir != "" {
			err = errors.Join(err, os.RemoveAll(dir))
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
	c := &child{stdin: inW, started: time.Now()}
	c.board = newBoard(p.base, c.send)
	c.late, c.gone = c.silence, func(stage string) error { return p.gone(c, stage) }
	c.cmd = &exec.Cmd{Path: path, Args: append([]string{p.c.Command}, p.c.Args...), Dir: p.c.Dir, Env: append(p.environment(), secrets...), Stdin: inR, Stdout: outW, Stderr: &c.stderr}
	// A group of its own, so that a package runner's children end with it; and no
	// waiting for ever on a grandchild that holds stderr open.
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.cmd.WaitDelay = 2 * time.Second
	err = c.cmd.Start()
	closed := errors.Join(inR.Close(), outW.Close())
	if err != nil {
		c.end()
		return nil, errors.Join(p.fail(diagnosis.Evidence{Stage: "launch", What: diagnosis.NotExecutable, Note: plainError(err)}, err), closed, inW.Close(), outR.Close())
	}
	p.c.Limits.apply(c.cmd.Process.Pid)
	read := make(chan struct{})
	go func() { defer close(read); p.read(c, outR) }()
	guarded := make(chan struct{})
	go func() { defer close(guarded); c.guard(p.c.Limits) }()
	go func() {
		err := c.cmd.Wait()
		c.kill(syscall.SIGKILL) // whatever the process left behind
		// What it wrote last is still read, but not for long.
		_ = outR.SetReadDeadline(time.Now().Add(time.Second))
		<-read
		_ = errors.Join(outR.Close(), inW.Close())
		if dir != "" {
			_ = os.RemoveAll(dir)
		}
		c.exit = err
		c.end()
		<-guarded
	}()
	return c, nil
}

// find looks for the command as a person would, and tells the usual mistakes
// apart.
func (p *Process) find() (string, error) {
	fail := func(what diagnosis.Cause, note string) (string, error) {
		return "", p.fail(diagnosis.Evidence{Stage: "launch", What: what, Note: note}, nil)
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
		return fail(diagnosis.LineInCommand, p.short(p.c.Command))
	}
	return fail(diagnosis.CommandNotFound, p.short(p.c.Command))
}

func (p *Process) environment() []string {
	env := []string{}
	for _, name := range inherited {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	for name, v := range p.c.Env {
		env = append(env, name+"="+v)
	}
	return env
}

func plainError(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// Probe implements Link.
func (p *Process) Probe(ctx context.Context) (Offer, []team.Stage, error) {
	_, stages, err := p.open(ctx)
	if err != nil {
		return Offer{}, stages, err
	}
	k := newClock(p.short)
	o, err := p.Offer(ctx)
	k.lap("tools", err)
	return o, append(stages, k.stages()...), err
}

// Offer implements Link.
func (p *Process) Offer(ctx context.Context) (Offer, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return Offer{}, err
	}
	return p.offer(ctx, c.greeting, asking(func(ctx context.Context, a *Ask) (Exchange, error) { return p.begin(ctx, c, a) }))
}

// Begin implements Link.
func (p *Process) Begin(ctx context.Context, a *Ask) (Exchange, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return nil, err
	}
	return p.begin(ctx, c, a)
}

// Cancel implements Link.
func (p *Process) Cancel(ctx context.Context, id uint64, reason string) error {
	c := p.child.Load()
	if c == nil || c.over() {
		return nil
	}
	return c.write(ctx, cancelled(id, reason))
}

// Revision implements Link.
func (p *Process) Revision() string {
	if c := p.child.Load(); c != nil {
		return c.greeting.Revision
	}
	return ""
}

// Notify implements Link.
func (p *Process) Notify(ctx context.Context, method string, params []byte) error {
	c := p.child.Load()
	if c == nil || c.over() || wire.Stateless(c.greeting.Revision) {
		return nil
	}
	return c.write(ctx, wire.AppendNotification(nil, method, params))
}

// Subscribe implements Link.
func (p *Process) Subscribe(ctx context.Context, uri string, on bool) error {
	c, _, err := p.open(ctx)
	if err != nil {
		return err
	}
	if wire.Stateless(c.greeting.Revision) {
		return p.fail(diagnosis.Evidence{Stage: "subscribe", What: diagnosis.NotOffered, Note: "in its revision they belong to an event stream, which a local process has not"}, nil)
	}
	return p.subscribe(ctx, c.greeting, uri, on, p.Begin)
}

// Log implements Link.
func (p *Process) Log(ctx context.Context, level string) error {
	c, _, err := p.open(ctx)
	if err != nil {
		return err
	}
	return p.log(ctx, c.greeting, level, p.Begin)
}

// Close implements Link: it ends the process as the standard asks.
func (p *Process) Close(ctx context.Context) {
	p.opening.close()
	if c := p.child.Swap(nil); c != nil {
		c.stop(ctx)
	}
}

// Listen implements Transport: everything comes over standard output.
func (p *Process) Listen(ctx context.Context, ready func()) bool {
	ready()
	c := p.child.Load()
	if c == nil {
		return true
	}
	select {
	case <-c.ended:
		return pause(ctx, c.started)
	case <-ctx.Done():
		return true
	}
}

// Diagnostics implements Transport.
func (p *Process) Diagnostics() (stderr string, noise int) {
	c := p.child.Load()
	if c == nil {
		return "", 0
	}
	return p.mask.Text(c.stderr.String()), int(c.noise.Load())
}

// gone says why a process is no longer there.
func (p *Process) gone(c *child, stage string) error {
	select {
	case <-c.ended:
	case <-time.After(time.Second):
		return p.fail(diagnosis.Evidence{Stage: stage, What: diagnosis.OutcomeUnknown, Note: "the process does not read its input"}, nil)
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
		return p.fail(diagnosis.Evidence{Stage: stage, What: diagnosis.OverLimit, Note: *over}, c.exit)
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
	if last := p.short(lastLine(c.stderr.String())); last != "" {
		note += ", having written: " + last
	}
	return p.fail(diagnosis.Evidence{Stage: stage, What: what, Note: note}, c.exit)
}

func lastLine(s string) string {
	s = strings.TrimSpace(s)
	return s[strings.LastIndexByte(s, '\n')+1:]
}

// read distributes what the process writes, until it stops.
func (p *Process) read(c *child, out *os.File) {
	lines := newLineReader(out, p.o.MessageLimit)
	for {
		line, head, err := lines.next()
		if err != nil {
			return
		}
		if line == nil { // too long: the call concerned is told, if it can be found
			c.tooLarge(head)
			continue
		}
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		f, err := wire.ReadFrame(line)
		if err != nil {
			c.noise.Add(1)
			continue
		}
		c.take(line, f)
	}
}

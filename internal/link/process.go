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
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/locker"
	"bouncer/internal/team"
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
}

// inherited are the only variables of the service's own environment that a
// process gets: what package runners cannot do without.
var inherited = []string{"PATH", "HOME", "LANG", "TMPDIR", "TZ"}

// Process is a conversation with a local process. The process is started when
// it is first needed and kept; all agents share it.
type Process struct {
	*base
	c       Command
	opening sync.Mutex
	child   atomic.Pointer[child] // nil while there is none
}

// NewProcess prepares a conversation; nothing is started yet.
func NewProcess(c Command, o Options) *Process {
	return &Process{base: newBase(c.Server, o, c.Secret.Reveal()), c: c}
}

// open returns a running child with an open session, and starts one if need be.
func (p *Process) open(ctx context.Context) (*child, []team.Stage, error) {
	if c := p.child.Load(); c != nil && !c.over() {
		return c, nil, nil
	}
	p.opening.Lock()
	defer p.opening.Unlock()
	if c := p.child.Load(); c != nil && !c.over() {
		return c, nil, nil
	}
	ctx, cancel := context.WithTimeout(ctx, p.o.SetupTimeout)
	defer cancel()
	var stages []team.Stage
	began := time.Now()
	stage := func(name string, err error) {
		s := team.Stage{Name: name, Millis: float64(time.Since(began).Microseconds()) / 1000, OK: err == nil}
		if err != nil {
			s.Note = p.short(err.Error())
		}
		stages, began = append(stages, s), time.Now()
	}
	c, err := p.start()
	stage("launch", err)
	if err != nil {
		return nil, stages, err
	}
	c.greeting, err = p.shake(ctx, c)
	stage("initialize", err)
	if err != nil {
		c.stop(ctx)
		return nil, stages, err
	}
	p.child.Store(c)
	return c, stages, nil
}

// shake opens the session with a fresh child.
func (p *Process) shake(ctx context.Context, c *child) (Greeting, error) {
	id := p.NextID()
	x, err := p.begin(ctx, c, wire.AppendRequest(nil, id, "initialize", p.hello()), id, "initialize")
	if err != nil {
		return Greeting{}, err
	}
	defer x.Close()
	frame, f, err := answer(x)
	if err != nil {
		return Greeting{}, err
	}
	g, err := p.readGreeting(frame, f)
	if err != nil {
		return Greeting{}, err
	}
	return g, c.write(wire.AppendNotification(nil, "notifications/initialized", nil))
}

// start starts the process, or says why it cannot be.
func (p *Process) start() (*child, error) {
	path, err := p.find()
	if err != nil {
		return nil, err
	}
	inR, inW, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	outR, outW, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, inR.Close(), inW.Close())
	}
	c := &child{stdin: inW, waiting: map[uint64]*processExchange{}, ended: make(chan struct{}), changed: make(chan struct{}, 1), started: time.Now()}
	c.cmd = &exec.Cmd{Path: path, Args: append([]string{p.c.Command}, p.c.Args...), Dir: p.c.Dir, Env: p.environment(), Stdin: inR, Stdout: outW, Stderr: &c.stderr}
	// A group of its own, so that a package runner's children end with it; and no
	// waiting for ever on a grandchild that holds stderr open.
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.cmd.WaitDelay = 2 * time.Second
	err = c.cmd.Start()
	closed := errors.Join(inR.Close(), outW.Close())
	if err != nil {
		return nil, errors.Join(p.fail(diagnosis.Evidence{Stage: "launch", What: diagnosis.NotExecutable, Note: plainError(err)}, err), closed, inW.Close(), outR.Close())
	}
	read := make(chan struct{})
	go func() { defer close(read); p.read(c, outR) }()
	go func() {
		err := c.cmd.Wait()
		c.kill(syscall.SIGKILL) // whatever the process left behind
		// What it wrote last is still read, but not for long.
		_ = outR.SetReadDeadline(time.Now().Add(time.Second))
		<-read
		_ = errors.Join(outR.Close(), inW.Close())
		c.exit = err
		close(c.ended)
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
	if p.c.SecretEnv != "" {
		env = append(env, p.c.SecretEnv+"="+p.c.Secret.Reveal())
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
func (p *Process) Probe(ctx context.Context) (Greeting, []tools.Tool, []string, []team.Stage, error) {
	c, stages, err := p.open(ctx)
	if err != nil {
		return Greeting{}, nil, nil, stages, err
	}
	began := time.Now()
	list, left, err := p.Tools(ctx)
	s := team.Stage{Name: "tools", Millis: float64(time.Since(began).Microseconds()) / 1000, OK: err == nil}
	if err != nil {
		s.Note = p.short(err.Error())
	}
	return c.greeting, list, left, append(stages, s), err
}

// Tools implements Link.
func (p *Process) Tools(ctx context.Context) ([]tools.Tool, []string, error) {
	c, _, err := p.open(ctx)
	if err != nil || !c.greeting.HasTools {
		return nil, nil, err
	}
	return p.listTools(ctx, func(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error) {
		id := p.NextID()
		x, err := p.begin(ctx, c, wire.AppendRequest(nil, id, method, params), id, "tools")
		if err != nil {
			return nil, wire.Frame{}, err
		}
		defer x.Close()
		return answer(x)
	})
}

// Begin implements Link.
func (p *Process) Begin(ctx context.Context, body []byte, id uint64, stage string) (Exchange, error) {
	c, _, err := p.open(ctx)
	if err != nil {
		return nil, err
	}
	return p.begin(ctx, c, body, id, stage)
}

func (p *Process) begin(ctx context.Context, c *child, body []byte, id uint64, stage string) (Exchange, error) {
	x := &processExchange{p: p, c: c, id: id, stage: stage, ctx: ctx, frames: make(chan delivery, maxQueued+1)}
	c.mu.Lock()
	c.waiting[id] = x
	c.mu.Unlock()
	if err := c.write(body); err != nil {
		x.Close()
		return nil, p.gone(c, stage)
	}
	return x, nil
}

// Cancel implements Link.
func (p *Process) Cancel(_ context.Context, id uint64, reason string) error {
	c := p.child.Load()
	if c == nil || c.over() {
		return nil
	}
	params := fmt.Appendf(nil, `{"requestId":%d,"reason":%s}`, id, wire.Quote(reason))
	return c.write(wire.AppendNotification(nil, "notifications/cancelled", params))
}

// Close implements Link: it ends the process as the standard asks.
func (p *Process) Close(ctx context.Context) {
	if c := p.child.Swap(nil); c != nil {
		c.stop(ctx)
	}
}

func (p *Process) listen(ctx context.Context) bool {
	c := p.child.Load()
	if c == nil {
		return true
	}
	select {
	case <-c.changed:
		return true
	case <-c.ended:
		return pause(ctx, c.started)
	case <-ctx.Done():
		return true
	}
}

// tail returns the end of what the process wrote to stderr, masked, and how
// many lines it wrote to stdout that were not the protocol.
func (p *Process) tail() (stderr string, noise int) {
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
		switch f.Kind {
		case wire.Response:
			if id, err := strconv.ParseUint(string(f.ID.Of(line)), 10, 64); err == nil {
				c.deliver(id, delivery{frame: bytes.Clone(line), f: f})
			}
		case wire.Notification:
			c.notice(line, f)
		case wire.Request:
			// Nobody here asked for it, and on a shared process no agent can be told
			// to be meant: ping is answered, anything else honestly refused.
			reply := wire.AppendResult(nil, f.ID.Of(line), []byte("{}"))
			if f.Method != "ping" {
				reply = wire.AppendError(nil, f.ID.Of(line), wire.CodeMethodNotFound, "not supported by this client", nil)
			}
			_ = c.write(reply) // a process that does not read is found out elsewhere
		}
	}
}

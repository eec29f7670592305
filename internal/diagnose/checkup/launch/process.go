package launch

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/checkup/exam"
	"bouncer/internal/link"
	"bouncer/internal/link/dial"
	"bouncer/internal/spawn"
)

// lookAtProcess looks at a local process: first at what can be known without starting it,
// then at what it does.
func (r run) lookAtProcess(ctx context.Context) error {
	p := &evidence.Process{}
	r.Evidence.Process = p
	r.look(p)
	line := r.Short(strings.Join(append([]string{r.Target.Server.Command}, r.Target.Server.Args...), " "))
	r.Stage("settings", exam.OK, 0, "the command is "+line)
	if unstartable(p) {
		r.Stage("launch", exam.Failed, 0, "it cannot be started as it is described")
		return nil
	}
	r.Tell("launch", "starting "+r.Target.Server.Command)
	c, err := r.start(ctx, p)
	if err != nil {
		return r.notStarted(p, err)
	}
	began := time.Now()
	r.Tell("protocol", "asking for a conversation")
	opened := r.openProcess(ctx, c, p)
	if opened {
		r.Stage("launch", exam.OK, p.Took, fmt.Sprintf("it answered after %d ms", p.Took.Milliseconds()))
		r.Converse(ctx, c, *r.Evidence.Session)
		r.Evidence.Session.Noise = c.noises()
		c.finish(p, false)
		return nil
	}
	c.finish(p, true)
	facts := []string{c.ending(p)}
	if p.Stderr != "" {
		facts = append(facts, r.Short(lastLine(p.Stderr)))
	}
	r.Stage("launch", exam.Failed, time.Since(began), facts...)
	return nil
}

func (r run) notStarted(p *evidence.Process, err error) error {
	var off spawn.OffError
	switch {
	case errors.As(err, &off):
		p.Off = true
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	default:
		p.StartErr = err
		var path *fs.PathError
		if errors.As(err, &path) {
			p.StartErr = path.Err
		}
		if errors.Is(err, syscall.ENOEXEC) {
			p.Format = "it is no program that this system can run"
		}
		if errors.Is(err, syscall.ENOENT) && p.Interpreter == "" {
			p.InterpreterMissing, p.Interpreter = "of the program", "a loader that is not there"
		}
	}
	r.Stage("launch", exam.Failed, 0, err.Error())
	return nil
}

// child is a process that was started for one checkup.
type child struct {
	run
	cmd     *exec.Cmd
	spawned *spawn.Process
	stdin   *os.File
	files   *spawn.Secrets
	began   time.Time
	lines   chan []byte   // closed when standard output ends
	ended   chan struct{} // closed when it has ended
	exit    error         // readable once ended is closed
	stderr  *headTail
	// envelope is what each request carries in the stateless era; nil in a session.
	envelope []byte

	mu    sync.Mutex // guards what follows
	head  []byte     // of standard output, raw
	wrote time.Time  // when it last wrote anywhere
	noise []string
	over  string // the limit that it went over; "" for none
}

// guardEvery is how often a process is looked at.
const guardEvery = 200 * time.Millisecond

// guard ends the process when it uses more memory than its server may.
func (c *child) guard() {
	limit := int64(c.Target.Server.MemoryMiB) << 20
	if limit <= 0 {
		return
	}
	tick := time.NewTicker(guardEvery)
	defer tick.Stop()
	for {
		select {
		case <-c.ended:
			return
		case <-tick.C:
		}
		if memory(c.cmd.Process.Pid) > limit {
			c.mu.Lock()
			c.over = "memory"
			c.mu.Unlock()
			c.spawned.Signal(syscall.SIGKILL)
		}
	}
}

// headTail keeps the beginning and the end of what is written to it.
type headTail struct {
	mu         sync.Mutex // guards what follows
	head, tail []byte
	wrote      func()
}

const endBytes = 16 << 10

// How often, and after what time, a program that is just being written is tried again.
const (
	writeTries = 5
	writeWait  = 50 * time.Millisecond
)

func (b *headTail) Write(p []byte) (int, error) {
	b.wrote()
	b.mu.Lock()
	defer b.mu.Unlock()
	n := len(p)
	if room := endBytes - len(b.head); room > 0 {
		take := min(room, len(p))
		b.head = append(b.head, p[:take]...)
		p = p[take:]
	}
	b.tail = append(b.tail, p...)
	if over := len(b.tail) - endBytes; over > 0 {
		b.tail = b.tail[over:]
	}
	return n, nil
}

// text is what was kept, masked. Where something was left out, the end begins with a whole
// line, or after as much as half a secret can be: that would not be recognised.
func (b *headTail) text(m *mask.Masker) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.tail) < endBytes {
		return m.Text(string(b.head) + string(b.tail))
	}
	tail := m.Text(string(b.tail))
	if _, after, found := strings.Cut(tail, "\n"); found {
		tail = after
	} else {
		tail = tail[min(len(tail), m.Longest()):]
	}
	return m.Text(string(b.head)) + "\n…\n" + tail
}

// start starts the process with its pipes.
func (r run) start(ctx context.Context, p *evidence.Process) (*child, error) {
	spawner := r.Options.Spawner
	if spawner == nil {
		spawner, _ = spawn.New(spawn.Options{}) // without a user there is nothing to go wrong
	}
	credential := r.Target.Credential
	if vars := credential.Vars; vars != nil {
		credential.Vars = func(ctx context.Context) ([]link.Var, error) {
			list, err := vars(ctx)
			for _, v := range list {
				r.Learn(v.Value.Reveal())
			}
			return list, err
		}
	}
	env, files, err := dial.Environment(ctx, r.Target.Server, credential, spawner)
	if err != nil {
		return nil, err
	}
	r.inspectVariables(env)
	inR, inW, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, files.Remove())
	}
	outR, outW, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, inR.Close(), inW.Close(), files.Remove())
	}
	c := &child{run: r, stdin: inW, files: files, began: time.Now(), lines: make(chan []byte, 64), ended: make(chan struct{})}
	c.stderr = &headTail{wrote: c.heard}
	c.cmd = &exec.Cmd{
		Path: p.Path, Args: append([]string{r.Target.Server.Command}, r.Target.Server.Args...), Dir: r.Target.Server.Dir, Env: env,
		Stdin: inR, Stdout: outW, Stderr: c.stderr, WaitDelay: time.Second,
	}
	c.spawned, err = spawner.Start(ctx, c.cmd, "a checkup of "+r.Target.Named(), 0)
	for tries := 0; errors.Is(err, syscall.ETXTBSY) && tries < writeTries; tries++ {
		// Somebody is just writing it.
		select {
		case <-time.After(writeWait):
		case <-ctx.Done():
		}
		again := *c.cmd
		c.cmd = &exec.Cmd{
			Path: again.Path, Args: again.Args, Dir: again.Dir, Env: env, Stdin: inR, Stdout: outW, Stderr: c.stderr, WaitDelay: time.Second,
		}
		c.spawned, err = spawner.Start(ctx, c.cmd, "a checkup of "+r.Target.Named(), 0)
	}
	closed := errors.Join(inR.Close(), outW.Close())
	if err != nil {
		return nil, errors.Join(err, closed, inW.Close(), outR.Close(), files.Remove())
	}
	p.Started = true
	read, guarded := make(chan struct{}), make(chan struct{})
	go func() { defer close(read); c.read(outR) }()
	go func() { defer close(guarded); c.guard() }()
	go func() {
		c.exit = c.cmd.Wait()
		c.spawned.Ended()
		_ = outR.SetReadDeadline(time.Now().Add(time.Second)) // what it wrote last is still read
		<-read
		_ = errors.Join(outR.Close(), files.Remove())
		close(c.ended)
		<-guarded
	}()
	return c, nil
}

// inspectVariables tells the form of what goes into variables.
func (r run) inspectVariables(env []string) {
	for _, e := range env {
		name, value, _ := strings.Cut(e, "=")
		if name == r.Target.Server.SecretEnv {
			r.Learn(value)
			c := evidence.InspectCredential(evidence.Form{}, name, value)
			r.Evidence.Credentials = append(r.Evidence.Credentials, c)
			if c.Placeholder != "" || c.Empty {
				r.Evidence.Target.Unset = append(r.Evidence.Target.Unset, name)
			}
		}
	}
}

func (c *child) heard() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.wrote = time.Now()
}

// read reads standard output until it ends: every byte is kept as it comes, since a line
// that never ends tells something too, and lines go to whoever waits for an answer.
func (c *child) read(out *os.File) {
	defer close(c.lines)
	buffer := make([]byte, 64<<10)
	var line []byte
	for {
		n, err := out.Read(buffer)
		c.keepOutput(buffer[:n])
		rest := buffer[:n]
		for {
			part, after, whole := bytes.Cut(rest, []byte("\n"))
			if len(line) <= c.Options.MessageLimit {
				line = append(line, part...)
			}
			if !whole {
				break
			}
			if len(bytes.TrimSpace(line)) > 0 && !c.pass(line) {
				return
			}
			line, rest = nil, after
		}
		if err != nil {
			return
		}
	}
}

// pass gives a line to whoever waits for an answer; false when nobody has for long.
func (c *child) pass(line []byte) bool {
	t := time.NewTimer(time.Minute)
	defer t.Stop()
	select {
	case c.lines <- line:
		return true
	case <-t.C:
		return false
	}
}

func (c *child) keepOutput(part []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.wrote = time.Now()
	if room := endBytes - len(c.head); room > 0 {
		c.head = append(c.head, part[:min(room, len(part))]...)
	}
}

func (c *child) noises() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]string(nil), c.noise...)
}

// openProcess asks for a conversation; false when none was opened in time.
func (r run) openProcess(ctx context.Context, c *child, p *evidence.Process) bool {
	a, frame := c.Ask(ctx, "initialize", r.Opening())
	p.Took = time.Since(c.began)
	if a.Error != nil && (a.Error.Code == wire.CodeNoRevision || a.Error.Code == wire.CodeMethodNotFound) {
		info := fmt.Appendf(nil, `{"name":"bouncer","version":%s}`, wire.Quote(r.Options.Version))
		c.envelope = wire.Envelope(wire.NewestStateless, wire.Caps{}, info, "")
		if d, discovered := c.Ask(ctx, "server/discover", nil); d.Error == nil && discovered != nil {
			if s, ok := exam.ReadDiscovery(discovered); ok {
				r.Evidence.Session = &s
				return true
			}
		}
	}
	switch {
	case a.Error != nil:
		r.Evidence.Session = &evidence.Session{Refused: a.Error, Reply: a.Reply}
		return false
	case frame == nil || a.Reply.Shape != evidence.Message || !a.Reply.Result:
		if a.Reply.ID != "" {
			r.Evidence.Session = &evidence.Session{Opened: true, Reply: a.Reply, Revision: "unknown"}
			return true
		}
		return false
	}
	s := exam.ReadGreeting(frame)
	s.Reply = a.Reply
	r.Evidence.Session = &s
	return true
}

// Ask implements exam.Speaker.
func (c *child) Ask(ctx context.Context, method string, params []byte) (evidence.Ask, []byte) {
	a := evidence.Ask{Method: method}
	id := c.ID()
	began := time.Now()
	body := wire.AppendRequest(nil, id, method, params)
	if c.envelope != nil {
		params = exam.OrEmpty(params)
		ask := wire.Ask{Method: method, Src: params, Params: wire.Span{Start: 0, End: len(params)}}
		if p, err := wire.ReadParams(params, ask.Params, method); err == nil {
			ask.P, ask.Subject = p, p.Subject
		}
		body = ask.Append(nil, id, c.envelope)
	}
	if err := c.write(append(body, '\n')); err != nil {
		a.Err, a.Took = err, time.Since(began)
		a.Ended = c.gone(ctx)
		return a, nil
	}
	limit := time.NewTimer(c.Options.Patience)
	defer limit.Stop()
	for {
		select {
		case line, ok := <-c.lines:
			a.Took = time.Since(began)
			if !ok {
				a.Ended, a.Err = c.gone(ctx), nil
				a.Timeout = !a.Ended
				return a, nil
			}
			if frame := c.frame(&a, line, id); frame != nil {
				return a, frame
			}
		case <-limit.C:
			a.Took, a.Timeout = time.Since(began), true
			return a, nil
		case <-ctx.Done():
			a.Took, a.Err = time.Since(began), ctx.Err()
			return a, nil
		}
	}
}

// gone waits for the end of a process that has closed its input or its output, which most
// do by ending; false for one that goes on.
func (c *child) gone(ctx context.Context) bool {
	limit := time.NewTimer(c.Options.Patience)
	defer limit.Stop()
	select {
	case <-c.ended:
		return true
	case <-limit.C:
	case <-ctx.Done():
	}
	return false
}

// frame takes a line for the answer; nil when it is something else. What is no message at
// all is noise.
func (c *child) frame(a *evidence.Ask, line []byte, id uint64) []byte {
	line = bytes.TrimRight(line, "\r\n")
	if len(line) > c.Options.MessageLimit {
		a.Bytes, a.Reply = len(line), evidence.Reply{Shape: evidence.BrokenJSON, Quote: c.Quote(evidence.BrokenJSON, line)}
		return line
	}
	reply := evidence.ReadReply(line, id)
	if reply.Shape != evidence.Message && reply.Shape != evidence.Batched {
		c.mu.Lock()
		defer c.mu.Unlock()
		if len(c.noise) < 20 {
			c.noise = append(c.noise, c.Quote(reply.Shape, line))
		}
		return nil
	}
	if !c.Taken(a, line, id) {
		return nil
	}
	return line
}

func (c *child) write(b []byte) error {
	_ = c.stdin.SetWriteDeadline(time.Now().Add(c.Options.Patience))
	_, err := c.stdin.Write(b)
	return err
}

// Notify implements exam.Speaker.
func (c *child) Notify(_ context.Context, method string) {
	if c.envelope == nil {
		_ = c.write(append(wire.AppendNotification(nil, method, nil), '\n')) // the next request shows whether it reads
	}
}

// finish ends the process, and tells what it was doing; with closer it is looked at
// before, and what it writes when its input ends.
func (c *child) finish(p *evidence.Process, closer bool) {
	forced := false
	select {
	case <-c.ended:
	default:
		if closer {
			c.examine(p)
		}
		before := c.outputLength()
		_ = c.stdin.Close()
		patience := 500 * time.Millisecond
		if closer {
			patience = 2 * time.Second
		}
		c.drain(patience)
		select {
		case <-c.ended:
			p.EndedAtEOF = true
		default:
			forced = true
			c.spawned.Signal(syscall.SIGTERM)
			c.drain(500 * time.Millisecond)
			c.spawned.Signal(syscall.SIGKILL)
			c.drain(5 * time.Second)
		}
		c.mu.Lock()
		if closer && len(c.head) > before {
			p.AfterEOF = []byte(c.Masker.Text(string(c.head[before:])))
			c.head = c.head[:before]
		}
		c.mu.Unlock()
	}
	_ = c.stdin.Close()
	c.mu.Lock()
	p.Stdout = []byte(c.Masker.Text(string(c.head)))
	if !c.wrote.IsZero() {
		p.LastWrote = c.wrote.Sub(c.began)
	}
	c.mu.Unlock()
	p.Stderr = c.stderr.text(c.Masker)
	if forced {
		return
	}
	select {
	case <-c.ended:
		c.exited(p)
	default:
	}
}

func (c *child) outputLength() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.head)
}

// drain reads lines on until the process has ended, or the time is up.
func (c *child) drain(limit time.Duration) {
	t := time.NewTimer(limit)
	defer t.Stop()
	lines := c.lines
	for {
		select {
		case <-c.ended:
			return
		case _, ok := <-lines:
			if !ok {
				lines = nil
			}
		case <-t.C:
			return
		}
	}
}

// toldByShells are the signals that a shell tells as 128 and their number; other programs
// mean something else by most numbers up there.
var toldByShells = []syscall.Signal{
	syscall.SIGHUP, syscall.SIGINT, syscall.SIGILL, syscall.SIGABRT, syscall.SIGBUS, syscall.SIGFPE,
	syscall.SIGKILL, syscall.SIGSEGV, syscall.SIGTERM,
}

// exited tells how the process ended.
func (c *child) exited(p *evidence.Process) {
	p.Exited = true
	var exit *exec.ExitError
	if !errors.As(c.exit, &exit) {
		return
	}
	p.Code = exit.ExitCode()
	status, ok := exit.Sys().(syscall.WaitStatus)
	switch {
	case ok && status.Signaled():
		p.Signal, p.Core = status.Signal().String(), status.CoreDump()
	case slices.Contains(toldByShells, syscall.Signal(p.Code-128)):
		p.Signal = syscall.Signal(p.Code - 128).String()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	p.OutOfMemory = c.over == "memory"
}

func (c *child) ending(p *evidence.Process) string {
	switch {
	case !p.Exited || p.EndedAtEOF:
		return "it runs, and does not answer"
	case p.Signal != "":
		return "it was ended by the signal " + p.Signal
	}
	return fmt.Sprintf("it ended with code %d", p.Code)
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

func unstartable(p *evidence.Process) bool {
	return p.DirMissing || p.NotFound || p.Denied || p.IsDir || p.Relative || p.WholeLine || p.InterpreterMissing != "" || p.Format != ""
}

// look finds out what can be known without starting anything.
func (r run) look(p *evidence.Process) {
	s := r.Target.Server
	if s.Dir != "" {
		info, err := os.Stat(s.Dir)
		if p.DirMissing = err != nil || !info.IsDir(); p.DirMissing {
			return
		}
	}
	if strings.Contains(s.Command, "/") && !filepath.IsAbs(s.Command) && !strings.ContainsAny(s.Command, " \t") {
		p.Relative = true
		return
	}
	path, err := exec.LookPath(s.Command)
	if err != nil {
		r.notFound(p, err)
		return
	}
	p.Path = path
	r.readProgram(p)
	if p.Script, p.ScriptMissing = script(path, s.Dir, s.Args); p.ScriptMissing {
		return
	}
	for _, arg := range s.Args {
		if len(strings.Fields(arg)) > 1 && strings.HasPrefix(arg, "-") {
			p.Glued = arg
		}
	}
}

func (r run) notFound(p *evidence.Process, err error) {
	command := r.Target.Server.Command
	info, stat := os.Stat(command)
	switch {
	case stat == nil && info.IsDir():
		p.IsDir, p.Path = true, command
	case errors.Is(err, fs.ErrPermission):
		p.Denied, p.Path = true, command
	case strings.ContainsAny(command, " \t"):
		p.WholeLine, p.Program = true, strings.Fields(command)[0]
	default:
		p.NotFound = true
	}
}

package link

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
)

// Limits on what one process may make Bouncer keep.
const (
	maxQueued  = 64      // messages waiting for one exchange; further progress is dropped
	keptStderr = 8 << 10 // bytes
	writeTime  = 10 * time.Second
	graceTime  = 2 * time.Second // for each step of ending a process
)

// child is one run of a process.
type child struct {
	cmd      *exec.Cmd
	started  time.Time
	greeting Greeting // set before the child is shared
	stderr   ring
	noise    atomic.Int64
	changed  chan struct{} // capacity 1: the tool list changed
	ended    chan struct{} // closed when the process is gone and all it wrote is read
	exit     error         // of the wait; to be read after ended

	writing sync.Mutex
	stdin   *os.File

	mu      sync.Mutex
	waiting map[uint64]*processExchange
}

// delivery is a message for an exchange, or why there will be none.
type delivery struct {
	frame []byte
	f     wire.Frame
	what  diagnosis.Cause
}

func (c *child) over() bool {
	select {
	case <-c.ended:
		return true
	default:
		return false
	}
}

// write sends one message as one line.
func (c *child) write(body []byte) error {
	line := append(make([]byte, 0, len(body)+1), body...)
	for i, b := range line {
		if b == '\n' || b == '\r' {
			line[i] = ' ' // white space between tokens; inside strings JSON has no raw line ends
		}
	}
	c.writing.Lock()
	defer c.writing.Unlock()
	if err := c.stdin.SetWriteDeadline(time.Now().Add(writeTime)); err != nil {
		return err
	}
	_, err := c.stdin.Write(append(line, '\n'))
	return err
}

func (c *child) deliver(id uint64, d delivery) {
	c.mu.Lock()
	x := c.waiting[id]
	c.mu.Unlock()
	if x == nil {
		return // given up, or an answer nobody asked for
	}
	select {
	case x.frames <- d:
	default:
		// One place is kept for the answer; a second answer is dropped.
	}
}

// notice passes on progress to the call it belongs to, and notes that the tools
// changed.
func (c *child) notice(line []byte, f wire.Frame) {
	switch f.Method {
	case "notifications/tools/list_changed":
		select {
		case c.changed <- struct{}{}:
		default:
		}
	case "notifications/progress":
		if f.Params.Empty() {
			return
		}
		id, err := strconv.ParseUint(string(wire.Member(line, f.Params, "progressToken").Of(line)), 10, 64)
		if err != nil {
			return
		}
		c.mu.Lock()
		x := c.waiting[id]
		c.mu.Unlock()
		if x != nil && len(x.frames) < maxQueued {
			frame := bytes.Clone(line)
			c.deliver(id, delivery{frame: frame, f: f})
		}
	}
}

var idIn = regexp.MustCompile(`"id"\s*:\s*(\d+)`)

// tooLarge tells the call that a too long line was for, if its beginning says.
func (c *child) tooLarge(head []byte) {
	if m := idIn.FindSubmatch(head); m != nil {
		if id, err := strconv.ParseUint(string(m[1]), 10, 64); err == nil {
			c.deliver(id, delivery{what: diagnosis.TooLarge})
		}
	}
}

func (c *child) kill(s syscall.Signal) {
	// The group may be gone already, which is what is wanted.
	_ = syscall.Kill(-c.cmd.Process.Pid, s)
}

// stop ends the process as the standard asks: close its input, wait, SIGTERM,
// wait, SIGKILL. It returns when the process is gone.
func (c *child) stop(ctx context.Context) {
	c.writing.Lock()
	_ = c.stdin.Close()
	c.writing.Unlock()
	for _, s := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		select {
		case <-c.ended:
			return
		case <-time.After(graceTime):
		case <-ctx.Done():
		}
		c.kill(s)
	}
	<-c.ended
}

// processExchange is one request on its way through a process.
type processExchange struct {
	p      *Process
	c      *child
	id     uint64
	stage  string
	ctx    context.Context
	frames chan delivery // written by the reader of the child; never closed
}

// Next implements Exchange.
func (x *processExchange) Next() ([]byte, wire.Frame, error) {
	select {
	case d := <-x.frames:
		return x.take(d)
	default:
	}
	select {
	case d := <-x.frames:
		return x.take(d)
	case <-x.c.ended:
		select {
		case d := <-x.frames: // it was written before the end
			return x.take(d)
		default:
			return nil, wire.Frame{}, x.p.gone(x.c, x.stage)
		}
	case <-x.ctx.Done():
		if errors.Is(context.Cause(x.ctx), context.Canceled) {
			return nil, wire.Frame{}, context.Canceled
		}
		e := diagnosis.Evidence{Stage: x.stage, Err: x.ctx.Err(), Timeout: true}
		if x.stage == "initialize" && x.c.noise.Load() > 0 {
			e = diagnosis.Evidence{Stage: x.stage, What: diagnosis.NoiseOnStdout, Note: "and no answer to initialize"}
		}
		return nil, wire.Frame{}, x.p.fail(e, x.ctx.Err())
	}
}

func (x *processExchange) take(d delivery) ([]byte, wire.Frame, error) {
	if d.what != "" {
		return nil, wire.Frame{}, x.p.fail(diagnosis.Evidence{Stage: x.stage, What: d.what}, nil)
	}
	return d.frame, d.f, nil
}

// Close implements Exchange.
func (x *processExchange) Close() {
	x.c.mu.Lock()
	defer x.c.mu.Unlock()
	delete(x.c.waiting, x.id)
}

// ring keeps the end of what is written to it. It is safe for concurrent use.
type ring struct {
	mu  sync.Mutex
	buf []byte
}

func (r *ring) Write(p []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.buf = append(r.buf, p...)
	if over := len(r.buf) - keptStderr; over > 0 {
		r.buf = append(r.buf[:0], r.buf[over:]...)
	}
	return len(p), nil
}

func (r *ring) String() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return string(r.buf)
}

// lineReader reads lines with a bound on their length.
type lineReader struct {
	r     *bufio.Reader
	limit int
	buf   []byte
}

func newLineReader(r io.Reader, limit int) *lineReader {
	return &lineReader{r: bufio.NewReaderSize(r, 32<<10), limit: limit}
}

// next returns the next line, valid until the next call. For a line above the
// limit it returns nil and the line's beginning, and passes over the rest.
func (l *lineReader) next() (line, head []byte, err error) {
	l.buf = l.buf[:0]
	over := false
	for {
		part, err := l.r.ReadSlice('\n')
		if !over && len(l.buf)+len(part) > l.limit {
			over = true
			head = bytes.Clone(l.buf[:min(len(l.buf), 512)])
			l.buf = nil
		}
		if !over {
			l.buf = append(l.buf, part...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil && len(l.buf) == 0:
			return nil, nil, err
		case over:
			return nil, head, nil
		}
		return l.buf, nil, nil
	}
}

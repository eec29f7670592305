package stdio

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/mux"
	"bouncer/internal/spawn"
)

// Limits on what one process may make Bouncer keep.
const (
	keptStderr = 8 << 10 // bytes
	writeTime  = 10 * time.Second
	graceTime  = 2 * time.Second // for each step of ending a process
)

// process is one run of a process.
type process struct {
	*mux.Mux
	cmd      *exec.Cmd
	spawned  *spawn.Process
	started  time.Time
	files    program       // what it was started from
	greeting link.Greeting // set before the child is shared
	stderr   *tailBuffer
	noise    atomic.Int64
	excess   atomic.Pointer[string] // which limit it went over, when it did
	exit     error                  // of the wait; to be read after ended

	writing sync.Mutex // held over the write of one message, so that messages do not mix
	stdin   *os.File
}

// send sends one message as one line.
func (c *process) send(_ context.Context, body []byte) error {
	line := append(make([]byte, 0, len(body)+1), body...)
	for i, b := range line {
		if b == '\n' || b == '\r' {
			line[i] = ' ' // white space between tokens; inside strings JSON has no raw line ends
		}
	}
	c.Heard(link.Sent, line)
	c.writing.Lock()
	defer c.writing.Unlock()
	if err := c.stdin.SetWriteDeadline(time.Now().Add(writeTime)); err != nil {
		return err
	}
	_, err := c.stdin.Write(append(line, '\n'))
	return err
}

// silence explains a silence while the session is opened by what came instead.
func (c *process) silence(stage string) *diagnosis.Evidence {
	if stage != "initialize" || c.noise.Load() == 0 {
		return nil
	}
	return &diagnosis.Evidence{Stage: stage, What: diagnosis.NoiseOnStdout, Note: "and no answer to initialize"}
}

func (c *process) kill(s syscall.Signal) { c.spawned.Signal(s) }

// stop ends the process as the standard asks: close its input, wait, SIGTERM,
// wait, SIGKILL. It returns when the process is gone.
func (c *process) stop(ctx context.Context) {
	c.writing.Lock()
	_ = c.stdin.Close()
	c.writing.Unlock()
	for _, s := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		select {
		case <-c.Ended:
			return
		case <-time.After(graceTime):
		case <-ctx.Done():
		}
		c.kill(s)
	}
	<-c.Ended
}

// tailBuffer keeps the end of what is written to it. It is safe for concurrent use.
type tailBuffer struct {
	heard func()       // called when something is written; nil for nobody
	words func([]byte) // called with what is written; nil for nobody

	mu  sync.Mutex // guards what follows
	buf []byte
}

// lastLine is the last line of a text that says something.
func lastLine(text string) string {
	text = strings.TrimRight(text, "\r\n \t")
	return text[strings.LastIndexAny(text, "\r\n")+1:]
}

func (r *tailBuffer) Write(p []byte) (int, error) {
	if r.heard != nil {
		r.heard()
	}
	if r.words != nil {
		r.words(p)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.buf = append(r.buf, p...)
	if over := len(r.buf) - keptStderr; over > 0 {
		r.buf = append(r.buf[:0], r.buf[over:]...)
	}
	return len(p), nil
}

func (r *tailBuffer) String() string {
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

// kept is how much of the beginning and of the end of a too long line is kept.
const kept = 512

// next returns the next line, valid until the next call. For a line above the
// limit it returns nil and how the line begins and ends, and passes over the rest.
func (l *lineReader) next() (line, head, tail []byte, err error) {
	l.buf = l.buf[:0]
	over := false
	for {
		part, err := l.r.ReadSlice('\n')
		if !over && len(l.buf)+len(part) > l.limit {
			over = true
			l.buf = append(l.buf, part...)
			head, part = bytes.Clone(l.buf[:min(len(l.buf), kept)]), bytes.Clone(l.buf)
			l.buf = nil
		}
		if over {
			tail = append(tail, part...)
			tail = append(tail[:0], tail[max(0, len(tail)-kept):]...)
		} else {
			l.buf = append(l.buf, part...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case over:
			return nil, head, tail, nil
		case err != nil && len(l.buf) == 0:
			return nil, nil, nil, err
		}
		return l.buf, nil, nil, nil
	}
}

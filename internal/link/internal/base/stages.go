package base

import (
	"context"
	"crypto/tls"
	"net/http/httptrace"
	"sync"
	"time"

	"bouncer/internal/core/team"
)

// Stages times the steps of reaching a server.
type Stages struct {
	short func(string) string
	enter func(stage string) (leave func())

	mu    sync.Mutex // the transport reports from its own goroutines
	steps []team.Stage
	began time.Time
	first bool // no connection was there yet
	leave func()
}

// Stages begins to time an attempt at reaching the server, which ends with End; words
// tells what its process wrote last, and may be nil.
func (l *Base) Stages(words func() string) *Stages {
	return &Stages{
		short: l.Short, began: time.Now(), first: true,
		enter: func(stage string) func() { return l.Options.Progress.Enter(l.ServerName, stage, words) },
	}
}

// At says which stage the attempt is in now; "" for none.
func (c *Stages) At(stage string) {
	c.mu.Lock()
	before := c.leave
	c.leave = nil
	c.mu.Unlock()
	if before != nil {
		before()
	}
	if stage == "" {
		return
	}
	leave := c.enter(stage)
	c.mu.Lock()
	c.leave = leave
	c.mu.Unlock()
}

// End says that the attempt is over.
func (c *Stages) End() { c.At("") }

func (c *Stages) Add(name string, from time.Time, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := team.Stage{Name: name, Millis: float64(time.Since(from).Microseconds()) / 1000, OK: err == nil}
	if err != nil {
		s.Note = c.short(err.Error())
	}
	c.steps = append(c.steps, s)
}

func (c *Stages) mark() time.Time { c.mu.Lock(); defer c.mu.Unlock(); return c.began }

func (c *Stages) set() { c.mu.Lock(); c.began = time.Now(); c.mu.Unlock() }

// Lap records a stage that began when the last one ended.
func (c *Stages) Lap(name string, err error) {
	c.Add(name, c.mark(), err)
	c.set()
}

// Opened records that the session was opened, or why not. A failure that was
// told as one of the connection is not told twice.
func (c *Stages) Opened(err error) {
	c.mu.Lock()
	told := err != nil && c.first && len(c.steps) > 0
	c.mu.Unlock()
	if !told {
		c.Add("initialize", c.mark(), err)
	}
}

func (c *Stages) List() []team.Stage {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.steps
}

func (c *Stages) connecting() bool { c.mu.Lock(); defer c.mu.Unlock(); return c.first }

// Trace reports the steps of the first connection.
func (c *Stages) Trace(ctx context.Context) context.Context {
	begin := func(stage string) {
		if c.connecting() {
			c.set()
			c.At(stage)
		}
	}
	end := func(name string, err error) {
		if c.connecting() {
			c.Add(name, c.mark(), err)
		}
	}
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		DNSStart:          func(httptrace.DNSStartInfo) { begin("resolve") },
		DNSDone:           func(i httptrace.DNSDoneInfo) { end("resolve", i.Err) },
		ConnectStart:      func(string, string) { begin("connect") },
		ConnectDone:       func(_, _ string, err error) { end("connect", err) },
		TLSHandshakeStart: func() { begin("tls") },
		TLSHandshakeDone:  func(_ tls.ConnectionState, err error) { end("tls", err) },
		GotConn: func(httptrace.GotConnInfo) {
			c.mu.Lock()
			fresh := c.first
			if fresh {
				c.first, c.began = false, time.Now()
			}
			c.mu.Unlock()
			if fresh {
				c.At("initialize")
			}
		},
	})
}

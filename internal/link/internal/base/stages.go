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

	mu    sync.Mutex // the transport reports from its own goroutines
	steps []team.Stage
	began time.Time
	first bool // no connection was there yet
}

func NewStages(short func(string) string) *Stages {
	return &Stages{short: short, began: time.Now(), first: true}
}

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
	begin := func() {
		if c.connecting() {
			c.set()
		}
	}
	end := func(name string, err error) {
		if c.connecting() {
			c.Add(name, c.mark(), err)
		}
	}
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		DNSStart:          func(httptrace.DNSStartInfo) { begin() },
		DNSDone:           func(i httptrace.DNSDoneInfo) { end("resolve", i.Err) },
		ConnectStart:      func(string, string) { begin() },
		ConnectDone:       func(_, _ string, err error) { end("connect", err) },
		TLSHandshakeStart: begin,
		TLSHandshakeDone:  func(_ tls.ConnectionState, err error) { end("tls", err) },
		GotConn: func(httptrace.GotConnInfo) {
			c.mu.Lock()
			defer c.mu.Unlock()
			if c.first {
				c.first, c.began = false, time.Now()
			}
		},
	})
}

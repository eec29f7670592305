package link

import (
	"context"
	"crypto/tls"
	"net/http/httptrace"
	"sync"
	"time"

	"bouncer/internal/core/team"
)

// clock times the steps of reaching a server.
type clock struct {
	short func(string) string

	mu    sync.Mutex // the transport reports from its own goroutines
	list  []team.Stage
	began time.Time
	first bool // no connection was there yet
}

func newClock(short func(string) string) *clock {
	return &clock{short: short, began: time.Now(), first: true}
}

func (c *clock) stage(name string, from time.Time, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := team.Stage{Name: name, Millis: float64(time.Since(from).Microseconds()) / 1000, OK: err == nil}
	if err != nil {
		s.Note = c.short(err.Error())
	}
	c.list = append(c.list, s)
}

func (c *clock) mark() time.Time { c.mu.Lock(); defer c.mu.Unlock(); return c.began }

func (c *clock) set() { c.mu.Lock(); c.began = time.Now(); c.mu.Unlock() }

// lap records a stage that began when the last one ended.
func (c *clock) lap(name string, err error) {
	c.stage(name, c.mark(), err)
	c.set()
}

// opened records that the session was opened, or why not. A failure that was
// told as one of the connection is not told twice.
func (c *clock) opened(err error) {
	c.mu.Lock()
	told := err != nil && c.first && len(c.list) > 0
	c.mu.Unlock()
	if !told {
		c.stage("initialize", c.mark(), err)
	}
}

func (c *clock) stages() []team.Stage {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.list
}

func (c *clock) connecting() bool { c.mu.Lock(); defer c.mu.Unlock(); return c.first }

// trace reports the steps of the first connection.
func (c *clock) trace(ctx context.Context) context.Context {
	begin := func() {
		if c.connecting() {
			c.set()
		}
	}
	end := func(name string, err error) {
		if c.connecting() {
			c.stage(name, c.mark(), err)
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

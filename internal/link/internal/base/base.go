// Package base is what every transport is built on: its target, failures put into
// findings, the reading of a server's offer page by page, and the bookkeeping of what
// is subscribed to.
package base

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// Base is what every conversation has.
type Base struct {
	ServerName string
	Process    bool // it is a process, and has no address
	Options    link.Options
	Masker     *mask.Masker
	Caps       wire.Caps // declared in sessions; everything until With says otherwise
	nextID     *atomic.Uint64
	listener   atomic.Pointer[link.Listener]
	line       uint64 // tells conversations with one server apart
	ear        link.Ear

	mu      sync.Mutex      // guards what follows
	watched map[string]bool // URIs subscribed to
	level   string          // of log messages asked for; "" for none
}

func New(server string, o link.Options, secrets ...string) *Base {
	var ear link.Ear
	if o.Tap != nil {
		ear = o.Tap.Of(server)
	}
	return &Base{
		line:       lines.Add(1),
		ear:        ear,
		ServerName: server,
		Options:    o.WithDefaults(),
		Caps:       wire.EveryCap,
		Masker:     mask.New(secrets),
		nextID:     new(atomic.Uint64),
		watched:    map[string]bool{},
	}
}

// lines numbers the conversations of the process.
var lines atomic.Uint64

// Heard tells whoever listens of a message or of words.
func (l *Base) Heard(what link.Heard, text []byte) {
	if l.ear != nil {
		l.ear.Frame(l.line, what, text, len(text))
	}
}

// Answered tells whoever listens of the head of an answer.
func (l *Base) Answered(method string, status int, header http.Header, took time.Duration) {
	if l.ear != nil {
		l.ear.Answer(l.line, method, status, header, took)
	}
}

// Sibling returns the base of another conversation with the same server.
func (l *Base) Sibling(caps wire.Caps) *Base {
	n := New(l.ServerName, l.Options)
	n.Masker, n.nextID, n.Caps = l.Masker, l.nextID, caps
	return n
}

// NextID implements link.Transport.
func (l *Base) NextID() uint64 { return l.nextID.Add(1) }

// RequestID is the id of a request.
func (l *Base) RequestID(a *link.Ask) uint64 {
	if a.ID != 0 {
		return a.ID
	}
	return l.NextID()
}

// Name implements Transport.
func (l *Base) Name() string { return l.ServerName }

// SetListener implements Transport.
func (l *Base) SetListener(to link.Listener) { l.listener.Store(&to) }

// Tell passes a message outside of any exchange on; a request that nobody takes
// is refused through answer.
func (l *Base) Tell(frame []byte, f wire.Frame, answer func([]byte)) {
	if f.Kind == wire.Request && f.Method == "ping" {
		answer(refuse(frame, f))
		return
	}
	to := l.listener.Load()
	if (to == nil || !(*to)(frame, f, answer)) && f.Kind == wire.Request {
		answer(refuse(frame, f))
	}
}

func (l *Base) Fail(e diagnosis.Evidence, cause error) *link.Failure {
	e.Server, e.Process = l.ServerName, l.Process
	return &link.Failure{Finding: diagnosis.Explain(e), Err: cause}
}

// Short makes a server's own words fit to be shown: masked, one line, bounded.
func (l *Base) Short(s string) string {
	text, cut := l.Masker.Cut(strings.Join(strings.Fields(s), " "), 200)
	if cut {
		text += "..."
	}
	return text
}

func (l *Base) NetFailure(ctx context.Context, err error, stage string) error {
	if errors.Is(context.Cause(ctx), context.Canceled) {
		return context.Canceled
	}
	var known *link.Failure
	if errors.As(err, &known) {
		return known
	}
	e := diagnosis.Evidence{Stage: stage, Err: err, Timeout: link.IsTimeout(err) || ctx.Err() != nil}
	var op *net.OpError
	var dns *net.DNSError
	if errors.As(err, &dns) {
		e.Stage = "resolve"
	} else if errors.As(err, &op) && op.Op == "dial" {
		e.Stage = "connect"
	} else if strings.Contains(err.Error(), "TLS handshake timeout") {
		e.Stage, e.Timeout = "tls", true
	}
	f := l.Fail(e, err)
	f.Refused = e.Stage != stage
	return f
}

// CoolDown keeps a stream that closes at once from being opened again and again.
func CoolDown(ctx context.Context, opened time.Time) bool {
	if left := 5*time.Second - time.Since(opened); left > 0 {
		select {
		case <-time.After(left):
		case <-ctx.Done():
		}
	}
	return true
}

// Cancelled is the notification that an answer is no longer wanted.
func Cancelled(id uint64, reason string) []byte {
	return wire.AppendNotification(nil, "notifications/cancelled", fmt.Appendf(nil, `{"requestId":%d,"reason":%s}`, id, wire.Quote(reason)))
}

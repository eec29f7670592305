// Package bridge lets assistants that can only start a command reach Bouncer:
// it speaks the stdio transport with the assistant and streamable HTTP with the
// service. It decides nothing and keeps nothing but the session, which it opens
// anew by itself when the service was restarted.
package bridge

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"sync"
	"time"

	"bouncer/internal/core/wire"
)

// Options say where the service is and what to show it.
type Options struct {
	URL  string // of the door, as in http://127.0.0.1:4680/mcp
	Pass string
	// Patience is how long a request waits for a service that cannot be reached;
	// 0 means 15 s.
	Patience time.Duration
	// Waits is told, once for each time, what is waited for; nil for nobody.
	Waits func(what string)
}

// Limits.
const (
	maxLine    = 16 << 20
	maxFlights = 64 // requests under way at a time
)

// Bridge relays between one assistant and the service.
type Bridge struct {
	o    Options
	http *http.Client

	pen sync.Mutex // held while a line is written to out
	out io.Writer

	mu       sync.Mutex                    // guards what follows
	open     map[string]context.CancelFunc // requests of the stateless era under way, by raw id
	hello    []byte                        // the assistant's initialize, to be repeated
	session  string
	revision string

	reopening sync.Mutex // held while the session is opened again; taken with no other lock held
}

// New returns a bridge that writes to out.
func New(out io.Writer, o Options) *Bridge {
	if o.Patience == 0 {
		o.Patience = 15 * time.Second
	}
	return &Bridge{
		o:    o,
		out:  out,
		http: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: maxFlights, DisableCompression: true}},
	}
}

// Run relays until in ends or ctx does, and ends the session then.
func (b *Bridge) Run(ctx context.Context, in io.Reader) error {
	ctx, cancel := context.WithCancel(ctx)
	var flights, listening sync.WaitGroup
	defer func() { cancel(); flights.Wait(); listening.Wait() }()
	lines, failed := b.lines(ctx, in)
	slots := make(chan struct{}, maxFlights)
	for {
		select {
		case <-ctx.Done():
			return nil
		case line, open := <-lines:
			if !open {
				flights.Wait() // what was asked before the end is answered
				// The listener first: it would take the ended session for a lost one and
				// open another.
				cancel()
				listening.Wait()
				b.leave(context.WithoutCancel(ctx))
				return <-failed
			}
			f, err := wire.ReadFrame(line)
			switch {
			case err != nil:
				b.fail(nil, wire.CodeParse, err.Error())
			case f.Kind == wire.Request && f.Method == "initialize":
				// Everything after it needs the session.
				b.relay(ctx, line, f)
				listening.Go(func() { b.listen(ctx) })
			case f.Kind == wire.Request || f.Kind == wire.Batch:
				slots <- struct{}{}
				flights.Go(func() { b.relay(ctx, line, f); <-slots })
			case f.Method == "notifications/cancelled" && b.drop(line, f):
				// Without a session, closing the request is the cancel.
			default:
				b.relay(ctx, line, f) // in order: a cancellation must not overtake its request
			}
		}
	}
}

// lines reads lines in the background. failed gives the error, if any, after
// lines was closed.
func (b *Bridge) lines(ctx context.Context, in io.Reader) (lines <-chan []byte, failed <-chan error) {
	out, end := make(chan []byte), make(chan error, 1)
	go func() {
		defer close(out)
		scan := bufio.NewScanner(in)
		scan.Buffer(nil, maxLine)
		for scan.Scan() {
			line := bytes.TrimSpace(scan.Bytes())
			if len(line) == 0 {
				continue
			}
			select {
			case out <- bytes.Clone(line):
			case <-ctx.Done():
				end <- nil
				return
			}
		}
		end <- scan.Err()
	}()
	return out, end
}

// drop gives up a request of the stateless era; false when there is none with
// that id.
func (b *Bridge) drop(line []byte, f wire.Frame) bool {
	if f.Params.Empty() {
		return false
	}
	id := wire.Member(line, f.Params, "requestId").Of(line)
	b.mu.Lock()
	cancel := b.open[string(id)]
	b.mu.Unlock()
	if cancel != nil {
		cancel()
	}
	return cancel != nil
}

// hold makes a request of the stateless era one that drop can give up.
func (b *Bridge) hold(ctx context.Context, line []byte, f wire.Frame) (context.Context, func()) {
	if f.Kind != wire.Request || revisionOf(line, f) == "" {
		return ctx, func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	key := string(f.ID.Of(line))
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.open == nil {
		b.open = map[string]context.CancelFunc{}
	}
	b.open[key] = cancel
	return ctx, func() {
		cancel()
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.open, key)
	}
}

// revisionOf is the revision that a message of the stateless era names; "" for
// those of sessions.
func revisionOf(line []byte, f wire.Frame) string {
	if f.Params.Empty() {
		return ""
	}
	v, _ := wire.StringAt(line, wire.Member(line, wire.Member(line, f.Params, "_meta"), wire.MetaVersion))
	return v
}

// relay carries one message to the service and what comes of it back.
func (b *Bridge) relay(ctx context.Context, line []byte, f wire.Frame) {
	ctx, release := b.hold(ctx, line, f)
	defer release()
	id := f.ID.Of(line)
	if f.Method == "subscriptions/listen" {
		b.attend(ctx, line, id, f)
		return
	}
	if f.Method == "initialize" {
		b.mu.Lock()
		b.hello, b.session, b.revision = line, "", ""
		b.mu.Unlock()
	}
	for again := true; ; again = false {
		before := b.sessionID()
		res, err := b.post(ctx, line)
		if err != nil {
			if ctx.Err() == nil && f.Kind != wire.Notification {
				b.fail(id, wire.CodeInternal, fmt.Sprintf("Bouncer cannot be reached at %s; is bouncer serve running?", b.o.URL))
			}
			return
		}
		// A service that does not know the session has not acted upon the request.
		if res.StatusCode == http.StatusNotFound && before != "" && again && f.Method != "initialize" {
			_ = res.Body.Close()
			if b.reopen(ctx, before) == nil {
				continue
			}
			b.fail(id, wire.CodeInternal, "Bouncer was restarted and does not let this agent in any more")
			return
		}
		b.back(res, id, f)
		return
	}
}

// back writes what the service answered.
func (b *Bridge) back(res *http.Response, id []byte, f wire.Frame) {
	defer res.Body.Close()
	if res.StatusCode == http.StatusAccepted {
		return
	}
	if f.Method == "initialize" && res.StatusCode == http.StatusOK {
		b.mu.Lock()
		b.session = res.Header.Get("Mcp-Session-Id")
		b.mu.Unlock()
	}
	media, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type"))
	if media == "text/event-stream" {
		b.events(res.Body)
		return
	}
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxLine))
	if err != nil {
		b.fail(id, wire.CodeInternal, "the connection to Bouncer broke off before the answer came; whether the tool ran is not known")
		return
	}
	a, err := wire.ReadFrame(raw)
	switch {
	case err != nil:
		b.fail(id, wire.CodeInternal, "what answers at "+b.o.URL+" is no Bouncer service")
	case a.Kind == wire.Response && string(a.ID.Of(raw)) == "null" && len(id) > 0:
		b.write(wire.AppendWithID(nil, raw, a, id))
	default:
		if f.Method == "initialize" && !a.Result.Empty() {
			rev, _ := wire.StringAt(raw, wire.Member(raw, a.Result, "protocolVersion"))
			b.mu.Lock()
			b.revision = rev
			b.mu.Unlock()
		}
		b.write(raw)
	}
}

func (b *Bridge) events(r io.Reader) {
	events := wire.NewEventReader(r, maxLine)
	for {
		ev, err := events.Next()
		if err != nil {
			return
		}
		if len(ev.Data) > 0 {
			b.write(ev.Data)
		}
	}
}

// attend holds a subscription of the stateless era for as long as the assistant
// wants it. When the service ends it, to be started again, it is made anew, and
// what may have been missed is told.
func (b *Bridge) attend(ctx context.Context, line, id []byte, f wire.Frame) {
	for first := true; ctx.Err() == nil; first = false {
		res, err := b.post(ctx, line)
		if err != nil {
			if ctx.Err() == nil {
				b.fail(id, wire.CodeInternal, fmt.Sprintf("Bouncer cannot be reached at %s; is bouncer serve running?", b.o.URL))
			}
			return
		}
		if media, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); res.StatusCode != http.StatusOK ||
			media != "text/event-stream" {
			b.back(res, id, f)
			return
		}
		over := b.subscription(res.Body, id, first)
		_ = res.Body.Close()
		if over {
			return
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// changes are the notifications that stand for what may have been missed.
var changes = [...][2]string{
	{"toolsListChanged", "notifications/tools/list_changed"},
	{"promptsListChanged", "notifications/prompts/list_changed"},
	{"resourcesListChanged", "notifications/resources/list_changed"},
}

// subscription passes one stream on. It returns true when the subscription is
// over for good: it had nothing to tell.
func (b *Bridge) subscription(r io.Reader, id []byte, first bool) (over bool) {
	events := wire.NewEventReader(r, maxLine)
	over = true
	for {
		ev, err := events.Next()
		if err != nil {
			return false
		}
		m, err := wire.ReadFrame(ev.Data)
		if err != nil {
			continue
		}
		switch {
		case m.Method == "notifications/subscriptions/acknowledged":
			granted := wire.Member(ev.Data, m.Params, "notifications")
			over = granted.End-granted.Start <= 2
			if first {
				b.write(ev.Data)
				continue
			}
			for _, c := range changes {
				if !wire.Member(ev.Data, granted, c[0]).Empty() {
					b.write(
						wire.AppendNotification(
							nil,
							c[1],
							append(append([]byte(`{"_meta":{"`+wire.MetaSubscription+`":`), id...), "}}"...),
						),
					)
				}
			}
		case m.Kind == wire.Response:
			if over {
				b.write(ev.Data)
			}
			return over
		default:
			b.write(ev.Data)
		}
	}
}

// listen holds the service's event stream for as long as the bridge runs.
func (b *Bridge) listen(ctx context.Context) {
	first, wait := true, time.Second
	for ctx.Err() == nil {
		sid := b.sessionID()
		req, err := b.request(ctx, http.MethodGet, nil)
		if err != nil || sid == "" {
			return
		}
		if res, err := b.http.Do(req); err == nil {
			switch res.StatusCode {
			case http.StatusOK:
				if !first {
					// Something may have changed while there was no stream.
					b.write(wire.AppendNotification(nil, "notifications/tools/list_changed", nil))
				}
				first, wait = false, time.Second
				b.events(res.Body)
			case http.StatusNotFound:
				_ = b.reopen(ctx, sid) // or the next request finds out
			case http.StatusMethodNotAllowed:
				_ = res.Body.Close()
				return
			}
			_ = res.Body.Close()
		}
		select {
		case <-time.After(wait):
			wait = min(2*wait, 5*time.Second) // a revoked pass must not knock every second
		case <-ctx.Done():
		}
	}
}

// reopen opens another session in place of the lost one, unless somebody did.
func (b *Bridge) reopen(ctx context.Context, lost string) error {
	b.reopening.Lock()
	defer b.reopening.Unlock()
	b.mu.Lock()
	hello, now := b.hello, b.session
	if now == lost {
		b.session = ""
	}
	b.mu.Unlock()
	if now != lost {
		return nil
	}
	res, err := b.post(ctx, hello)
	if err != nil {
		return err
	}
	_ = res.Body.Close()
	sid := res.Header.Get("Mcp-Session-Id")
	if res.StatusCode != http.StatusOK || sid == "" {
		return errors.New("the service does not open a session")
	}
	b.mu.Lock()
	b.session = sid
	b.mu.Unlock()
	if res, err = b.post(ctx, wire.AppendNotification(nil, "notifications/initialized", nil)); err == nil {
		err = res.Body.Close()
	}
	return err
}

// post sends a message. A service that does not accept connections is tried
// again for a while: nothing was sent, so nothing can happen twice.
func (b *Bridge) post(ctx context.Context, body []byte) (*http.Response, error) {
	told := false
	for deadline := time.Now().Add(b.o.Patience); ; {
		req, err := b.request(ctx, http.MethodPost, body)
		if err != nil {
			return nil, err
		}
		res, err := b.http.Do(req)
		var op *net.OpError
		if err == nil || !errors.As(err, &op) || op.Op != "dial" || time.Now().After(deadline) {
			return res, err
		}
		if !told && b.o.Waits != nil {
			told = true
			b.o.Waits(
				fmt.Sprintf("waiting for the service at %s, which cannot be reached yet (%v); up to %s", b.o.URL, op.Err, b.o.Patience),
			)
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (b *Bridge) request(ctx context.Context, method string, body []byte) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, b.o.URL, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+b.o.Pass)
	req.Header.Set("Accept", "application/json, text/event-stream")
	if method == http.MethodPost {
		req.Header.Set("Content-Type", "application/json")
	}
	if f, err := wire.ReadFrame(body); err == nil && f.Kind == wire.Request {
		if rev := revisionOf(body, f); rev != "" {
			// Over standard input there are no headers, so they are made of the body.
			req.Header.Set(wire.HeaderVersion, rev)
			req.Header.Set(wire.HeaderMethod, f.Method)
			if p, err := wire.ReadParams(body, f.Params, f.Method); err == nil && p.Subject != "" && f.Method != "completion/complete" {
				req.Header.Set(wire.HeaderName, wire.HeaderValue(p.Subject))
			}
			req.Header.Set(wire.HeaderBridge, "1")
			return req, nil
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.session != "" {
		req.Header.Set("Mcp-Session-Id", b.session)
		if b.revision != "" {
			req.Header.Set("Mcp-Protocol-Version", b.revision)
		}
	}
	return req, nil
}

func (b *Bridge) sessionID() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.session
}

// leave ends the session.
func (b *Bridge) leave(ctx context.Context) {
	if b.sessionID() == "" {
		return
	}
	// The assistant has gone, so the farewell has a time of its own.
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if req, err := b.request(ctx, http.MethodDelete, nil); err == nil {
		if res, err := b.http.Do(req); err == nil {
			_ = res.Body.Close()
		}
	}
}

func (b *Bridge) fail(id []byte, code int, message string) {
	b.write(wire.AppendError(nil, id, code, message, nil))
}

// write sends one message to the assistant, as one line.
func (b *Bridge) write(frame []byte) {
	line := append(make([]byte, 0, len(frame)+1), frame...)
	for i, c := range line {
		if c == '\n' || c == '\r' {
			line[i] = ' '
		}
	}
	b.pen.Lock()
	defer b.pen.Unlock()
	// An assistant that reads no more has closed its end; its input ends too.
	_, _ = b.out.Write(append(line, '\n'))
}

// Package direct carries requests over HTTP/1.1 in the goroutine of whoever asks: it writes to an
// idle connection, and reads the answer there, by http.ReadResponse. What is left out are the two
// goroutines that http.Transport keeps for each connection, and that they wake each other for each
// request, which was a fifth of what a call cost. It is for short requests to one address without TLS
// and without a proxy; for everything else there is http.Transport.
package direct

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptrace"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// Options configure a Transport. All are needed.
type Options struct {
	Dial           func(ctx context.Context, network, address string) (net.Conn, error)
	MaxIdle        int           // connections that are kept for further requests
	IdleTimeout    time.Duration // how long they are kept
	MaxHeaderBytes int64         // of an answer's header
}

const (
	bufferSize = 32 << 10 // messages of some KiB go out and come in with one system call each
	maxInterim = 5        // answers with a status of 1xx before the one that counts
	// earlyAnswer is how long an answer is waited for from a server that did not take all of the request.
	earlyAnswer = 50 * time.Millisecond
)

// Transport is an http.RoundTripper for one address. It is safe for concurrent use.
type Transport struct {
	o       Options
	address string

	mu      sync.Mutex  // guards what follows; nothing is read, written or dialled under it
	idle    []*conn     // in the order in which they were used, the newest last
	expires *time.Timer // ends what is idle too long; nil while nothing is
}

// New returns a Transport to an address, as host and port.
func New(address string, o Options) *Transport { return &Transport{o: o, address: address} }

// RoundTrip implements http.RoundTripper. The connection is free for the next request when the body
// of the answer was read to its end, and is closed when the body is closed before. A request of which
// nothing was written, since the server had closed an idle connection, goes out on another one.
func (t *Transport) RoundTrip(req *http.Request) (*http.Response, error) {
	if err := valid(req); err != nil {
		closeBody(req)
		return nil, err
	}
	for {
		c, err := t.take(req.Context())
		if err != nil {
			closeBody(req)
			return nil, err
		}
		res, err := t.carry(c, req)
		if err == nil {
			return res, nil
		}
		again := c.reused && c.written == 0 && req.Context().Err() == nil
		if !again {
			return nil, err
		}
		if req = rewound(req); req == nil { // its body is closed
			return nil, err
		}
	}
}

// CloseIdleConnections closes what no request uses.
func (t *Transport) CloseIdleConnections() {
	t.mu.Lock()
	idle := t.idle
	t.idle = nil
	t.stopExpiring()
	t.mu.Unlock()
	closeAll(idle)
}

// carry sends a request over a connection, and reads the header of the answer.
func (t *Transport) carry(c *conn, req *http.Request) (*http.Response, error) {
	ctx := req.Context()
	c.written = 0
	stop := context.AfterFunc(ctx, c.abort)
	res, err := c.exchange(req, t.o.MaxHeaderBytes)
	if err != nil {
		stop()
		c.close()
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}
	b := &body{from: res.Body, transport: t, ctx: ctx, stop: stop, last: res.Close || req.Close}
	b.conn.Store(c)
	if res.Body == http.NoBody {
		b.end(true)
		return res, nil
	}
	res.Body = b
	return res, nil
}

// take returns a connection that no other request uses.
func (t *Transport) take(ctx context.Context) (*conn, error) {
	for c := t.newest(); c != nil; c = t.newest() {
		if c.usable() {
			c.reused = true
			gotConnection(ctx, c)
			return c, nil
		}
		c.close()
	}
	made, err := t.o.Dial(ctx, "tcp", t.address)
	if err != nil {
		return nil, err // it says what was dialled
	}
	c := newConn(made)
	gotConnection(ctx, c)
	return c, nil
}

// newest takes the idle connection that was used last; nil when there is none.
func (t *Transport) newest() *conn {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := len(t.idle) - 1
	if n < 0 {
		return nil
	}
	c := t.idle[n]
	t.idle[n] = nil
	t.idle = t.idle[:n]
	return c
}

// give keeps a connection for further requests.
func (t *Transport) give(c *conn) {
	c.since = time.Now()
	t.mu.Lock()
	full := len(t.idle) >= t.o.MaxIdle
	if !full {
		t.idle = append(t.idle, c)
		if t.expires == nil {
			t.expires = time.AfterFunc(t.o.IdleTimeout, t.expire)
		}
	}
	t.mu.Unlock()
	if full {
		c.close()
	}
}

// expire closes what was idle for too long.
func (t *Transport) expire() {
	now := time.Now()
	t.mu.Lock()
	n := 0
	for n < len(t.idle) && now.Sub(t.idle[n].since) >= t.o.IdleTimeout {
		n++
	}
	old := slices.Clone(t.idle[:n])
	t.idle = slices.Delete(t.idle, 0, n)
	t.stopExpiring()
	if len(t.idle) > 0 {
		t.expires = time.AfterFunc(t.o.IdleTimeout-now.Sub(t.idle[0].since), t.expire)
	}
	t.mu.Unlock()
	closeAll(old)
}

// stopExpiring is called with the lock held.
func (t *Transport) stopExpiring() {
	if t.expires != nil {
		t.expires.Stop()
		t.expires = nil
	}
}

// conn is a connection. It belongs to one request at a time, or to those that are idle.
type conn struct {
	net     net.Conn
	in      *bufio.Reader
	out     *bufio.Writer
	left    int64 // bytes that may still be read
	written int64 // bytes of the present request
	reused  bool
	since   time.Time   // when it became idle
	closed  func() bool // reports whether the other side closed it, or says what nobody asked for
}

func newConn(made net.Conn) *conn {
	c := &conn{net: made, closed: closedBy(made)}
	c.in, c.out = bufio.NewReaderSize(c, bufferSize), bufio.NewWriterSize(c, bufferSize)
	return c
}

func (c *conn) usable() bool { return !c.closed() }

var errHeaderTooLong = errors.New("the header of the answer is too long")

// Read reads what the other side says, and of a header no more than is allowed.
func (c *conn) Read(b []byte) (int, error) {
	if c.left <= 0 {
		return 0, errHeaderTooLong
	}
	n, err := c.net.Read(b[:min(int64(len(b)), c.left)])
	c.left -= int64(n)
	return n, err
}

// Write writes, and counts that it did.
func (c *conn) Write(b []byte) (int, error) {
	n, err := c.net.Write(b)
	c.written += int64(n)
	return n, err
}

func (c *conn) close() { _ = c.net.Close() }

// abort has whoever reads or writes stop.
func (c *conn) abort() { _ = c.net.SetDeadline(time.Unix(1, 0)) }

// exchange writes a request and reads the header of its answer; most is how long that may be.
func (c *conn) exchange(req *http.Request, most int64) (*http.Response, error) {
	c.left = most
	if err := c.send(req); err != nil {
		return c.early(req, err)
	}
	return c.answer(req)
}

// send writes a request whose header is valid (RFC 9112). Its body has the length that it says, or it
// is an error, since what follows would be taken for another request.
func (c *conn) send(req *http.Request) error {
	defer closeBody(req)
	w := c.out
	host := req.Host
	if host == "" {
		host = req.URL.Host
	}
	for _, part := range [...]string{req.Method, " ", req.URL.RequestURI(), " HTTP/1.1\r\nHost: ", host, "\r\nContent-Length: "} {
		_, _ = w.WriteString(part) // the first error is kept, and returned by Flush
	}
	_, _ = w.Write(strconv.AppendInt(w.AvailableBuffer(), req.ContentLength, 10))
	_, _ = w.WriteString("\r\n")
	if req.Close {
		_, _ = w.WriteString("Connection: close\r\n")
	}
	for name, values := range req.Header {
		if slices.Contains(own, name) {
			continue
		}
		for _, v := range values {
			for _, part := range [...]string{name, ": ", v, "\r\n"} {
				_, _ = w.WriteString(part)
			}
		}
	}
	_, _ = w.WriteString("\r\n")
	if req.Body != nil {
		switch n, err := io.Copy(w, req.Body); {
		case err != nil:
			return fmt.Errorf("send the body of the request: %w", err)
		case n != req.ContentLength:
			return fmt.Errorf("the body of the request has %d bytes instead of %d", n, req.ContentLength)
		}
	}
	return w.Flush()
}

// own are the headers that follow from the request itself.
var own = []string{"Host", "Content-Length", "Transfer-Encoding", "Trailer", "Connection"}

// early reads the answer of a server that did not take all of a request; there may be none.
func (c *conn) early(req *http.Request, broken error) (*http.Response, error) {
	if c.written == 0 {
		return nil, broken
	}
	_ = c.net.SetReadDeadline(time.Now().Add(earlyAnswer))
	if req.Context().Err() != nil { // then what made it stop may have been undone by that
		return nil, broken
	}
	res, err := c.answer(req)
	if err != nil {
		return nil, broken
	}
	res.Close = true
	_ = c.net.SetReadDeadline(time.Time{})
	if req.Context().Err() != nil {
		return nil, broken
	}
	return res, nil
}

// answer reads the header of the answer that counts.
func (c *conn) answer(req *http.Request) (*http.Response, error) {
	for range maxInterim {
		res, err := http.ReadResponse(c.in, req)
		if err != nil {
			return nil, err
		}
		if res.StatusCode >= http.StatusOK {
			c.left = math.MaxInt64
			return res, nil
		}
		if res.StatusCode == http.StatusSwitchingProtocols {
			return nil, errors.New("the server wants to speak another protocol, which was not asked for")
		}
	}
	return nil, fmt.Errorf("the server sent %d interim answers, and none that counts", maxInterim)
}

// body is that of an answer.
type body struct {
	from      io.Reader
	transport *Transport
	conn      atomic.Pointer[conn] // nil when it is no longer ours
	ctx       context.Context
	stop      func() bool // has the end of ctx no longer matter; false when it did already
	last      bool        // nothing can follow on this connection
}

// Read implements io.Reader.
func (b *body) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	if err == nil {
		return n, nil
	}
	whole := errors.Is(err, io.EOF)
	if !whole && b.ctx.Err() != nil {
		err = context.Cause(b.ctx)
	}
	b.end(whole)
	return n, err
}

// Ended reports whether the body was read to its end, or closed.
func (b *body) Ended() bool { return b.conn.Load() == nil }

// Close closes the connection, unless the body was read to its end.
func (b *body) Close() error {
	b.end(false)
	return nil
}

// end gives the connection back, or closes it.
func (b *body) end(whole bool) {
	c := b.conn.Swap(nil)
	if c == nil {
		return
	}
	unbroken := b.stop()
	if whole && unbroken && !b.last && c.in.Buffered() == 0 {
		b.transport.give(c)
		return
	}
	c.close()
}

// rewound is a request to be sent once more; nil when its body cannot be read again.
func rewound(req *http.Request) *http.Request {
	again := *req
	if req.Body == nil || req.Body == http.NoBody {
		return &again
	}
	if req.GetBody == nil {
		return nil
	}
	body, err := req.GetBody()
	if err != nil {
		return nil
	}
	again.Body = body
	return &again
}

func closeBody(req *http.Request) {
	if req.Body != nil {
		_ = req.Body.Close()
	}
}

func closeAll(list []*conn) {
	for _, c := range list {
		c.close()
	}
}

// gotConnection tells whoever follows the request, as http.Transport does.
func gotConnection(ctx context.Context, c *conn) {
	if trace := httptrace.ContextClientTrace(ctx); trace != nil && trace.GotConn != nil {
		trace.GotConn(httptrace.GotConnInfo{Conn: c.net, Reused: c.reused, WasIdle: c.reused})
	}
}

// valid reports what cannot be sent: a body of unknown length, and what in a header would become
// another header, or none (RFC 9110, 5.1 and 5.5).
func valid(req *http.Request) error {
	if req.ContentLength < 0 {
		return errors.New("the length of the body of the request is not known")
	}
	return validHeader(req.Header)
}

func validHeader(h http.Header) error {
	for name, values := range h {
		if name == "" {
			return errors.New("a header has no name")
		}
		for _, r := range []byte(name) {
			if r <= ' ' || r >= 0x7f || r == ':' {
				return fmt.Errorf("the name of header %q holds what it must not", name)
			}
		}
		for _, v := range values {
			for _, r := range []byte(v) {
				if (r < ' ' && r != '\t') || r == 0x7f {
					return fmt.Errorf("header %s holds a control character", name) // its value may be secret
				}
			}
		}
	}
	return nil
}

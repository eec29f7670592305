package reach

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/wire"
	"bouncer/internal/egress"
	"bouncer/internal/link"
)

// web sends the requests of one checkup over HTTP.
type web struct {
	*way
	client  *http.Client // for the host that is looked at
	foreign *http.Client // for hosts that the server names; it shows them no certificate
	ear     *heard       // of the last connection
	// lastSession is the session that the last answer opened; it is no evidence.
	lastSession string
	polled      poll // what the last event stream said of being taken up again
}

func newWeb(w *way) *web {
	h := &web{way: w}
	h.client = h.newClient(w.client)
	h.foreign = h.newClient(nil)
	return h
}

func (h *web) newClient(certificates []tls.Certificate) *http.Client {
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				d := net.Dialer{Timeout: min(connectTime, h.Options.Patience), Control: h.guard(address)}
				conn, err := d.DialContext(ctx, network, address)
				if err != nil {
					return nil, err
				}
				h.ear = &heard{Conn: conn}
				return h.ear, nil
			},
			TLSClientConfig:     &tls.Config{RootCAs: h.roots, Certificates: certificates, MinVersion: tls.VersionTLS12},
			TLSHandshakeTimeout: min(connectTime, h.Options.Patience),
			ForceAttemptHTTP2:   true, MaxIdleConnsPerHost: 2,
		},
	}
}

// own reports whether an address is of the origin that is looked at: only there goes what
// was configured for it.
func (h *web) own(at *url.URL) bool { return at.Scheme == h.at.Scheme && at.Host == h.at.Host }

// do sends a request through the client that is meant for its host.
func (h *web) do(req *http.Request) (*http.Response, error) {
	if h.own(req.URL) {
		return h.client.Do(req)
	}
	return h.foreign.Do(req)
}

// guard refuses to be led into private networks by what a server names; the host that is
// looked at is where somebody wanted to go.
func (h *web) guard(address string) func(string, string, syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	if err == nil && host == h.at.Hostname() {
		return nil
	}
	inside := h.Options.Private
	for _, text := range h.Target.Server.PrivateRanges {
		if p, err := netip.ParsePrefix(text); err == nil {
			inside = append(slices.Clone(inside), p)
		}
	}
	return func(_, dialled string, _ syscall.RawConn) error { return egress.Check(dialled, inside) }
}

func (h *web) close() {
	h.client.CloseIdleConnections()
	h.foreign.CloseIdleConnections()
}

// request is what is to be sent.
type request struct {
	purpose evidence.Purpose
	method  string
	address string
	body    []byte
	id      uint64 // of the message; 0 for none
	header  http.Header
	forms   []attached
	host    string
	form    evidence.Form
	limit   time.Duration
	most    int // bytes of the answer that are read
}

// maxOpening is how much of an answer that opens a conversation is read.
const maxOpening = 1 << 20

// maxRedirects is how many redirects within one origin are followed.
const maxRedirects = 5

// send sends a request and reads its answer, following redirects within one origin that
// keep the method (RFC 9110, section 15.4). It returns what came, whole.
func (h *web) send(ctx context.Context, q request) (evidence.Exchange, []byte) {
	if q.limit == 0 {
		q.limit = h.Options.Patience
	}
	if q.most == 0 {
		q.most = maxOpening
	}
	x := evidence.Exchange{Purpose: q.purpose, Method: q.method, URL: h.shown(q.address), Form: q.form}
	began := time.Now()
	ctx, stop := context.WithTimeout(ctx, q.limit)
	defer stop()
	for range maxRedirects {
		res, err := h.once(ctx, q, &x)
		x.Took = time.Since(began)
		if err != nil {
			x.Err, x.Timeout = unwrapped(err), link.IsTimeout(err) || ctx.Err() != nil
			return x, nil
		}
		next := within(res, q.address)
		if next == "" || len(x.Redirects) >= maxRedirects-1 {
			raw := h.read(ctx, res, &x, q)
			if len(raw) == 0 && x.Reply.Event {
				raw = h.resume(ctx, &x, q)
			}
			x.Took = time.Since(began)
			return x, raw
		}
		_ = res.Body.Close()
		x.Redirects = append(x.Redirects, next)
		q.address = next
	}
	return x, nil
}

// within is where an answer redirects to, if that is of the same origin and keeps the
// method; "" otherwise.
func within(res *http.Response, from string) string {
	if res.StatusCode != http.StatusTemporaryRedirect && res.StatusCode != http.StatusPermanentRedirect {
		return ""
	}
	at, err := url.Parse(from)
	if err != nil {
		return ""
	}
	to, err := at.Parse(res.Header.Get("Location"))
	if err != nil || to.Scheme != at.Scheme || to.Host != at.Host || to.String() == from {
		return ""
	}
	return to.String()
}

func (h *web) once(ctx context.Context, q request, x *evidence.Exchange) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, q.method, q.address, bytes.NewReader(q.body))
	if err != nil {
		return nil, fmt.Errorf("make a request: %w", err)
	}
	if h.own(req.URL) {
		for _, header := range h.Target.Server.Headers {
			name, value, _ := strings.Cut(header, ":")
			req.Header.Set(strings.TrimSpace(name), headerSafe(strings.TrimPrefix(value, " ")))
		}
	}
	for name, list := range q.header {
		req.Header[name] = list
	}
	if q.forms == nil {
		for _, c := range h.forms {
			req.Header.Del(c.Header) // what was written as a header, too
		}
	}
	req.Header.Set("User-Agent", "bouncer/"+h.Options.Version)
	if q.method == http.MethodPost {
		req.Header.Set("Content-Type", "application/json")
	}
	if req.Header.Get("Accept") == "" {
		req.Header.Set("Accept", "application/json, text/event-stream")
	}
	x.Sent = apply(q.forms, req)
	if q.host != "" {
		req.Host = q.host
	}
	return h.do(req)
}

// unwrapped is an error without what net/http says of the request.
func unwrapped(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// shown is an address without what it carries in its query.
func (h *web) shown(address string) string {
	at, err := url.Parse(address)
	if err != nil {
		return h.Short(address)
	}
	at.User = nil
	return h.Masker.Text(at.String())
}

// keptHeaders are those of an answer that tell something.
var keptHeaders = []string{
	"Content-Type", "Content-Encoding", "Location", "Allow", "Retry-After", "Server", "Via", "Date", "Mcp-Session-Id",
	"X-Ratelimit-Remaining", "X-Ratelimit-Reset",
}

// read reads an answer: of an event stream up to the response, of anything else up to its
// end, within bounds.
func (h *web) read(ctx context.Context, res *http.Response, x *evidence.Exchange, q request) []byte {
	defer res.Body.Close()
	x.Status, x.Header = res.StatusCode, map[string]string{}
	for _, name := range keptHeaders {
		if list := res.Header.Values(name); len(list) > 0 {
			x.Header[name] = h.Short(strings.Join(list, ", "))
		}
	}
	if list := res.Header.Values("Www-Authenticate"); len(list) > 0 {
		x.Header["Www-Authenticate"] = h.challenge(strings.Join(list, ", "))
	}
	if id := res.Header.Get("Mcp-Session-Id"); id != "" {
		h.lastSession = id
		x.Header["Mcp-Session-Id"] = "given"
	}
	var raw []byte
	if res.StatusCode == http.StatusOK && strings.HasPrefix(strings.ToLower(res.Header.Get("Content-Type")), "text/event-stream") &&
		q.id != 0 {
		raw = h.events(ctx, res.Body, x, q)
	} else {
		var err error
		raw, err = io.ReadAll(io.LimitReader(res.Body, int64(min(q.most, maxOpening))+1))
		if err == nil && len(raw) > maxOpening && q.most > maxOpening && h.Big(ctx) {
			var rest []byte
			rest, err = io.ReadAll(io.LimitReader(res.Body, int64(q.most-len(raw))+1))
			raw = append(raw, rest...)
		}
		x.Size, x.Whole = len(raw), err == nil
		x.BodyErr, x.BodyTimeout = err, ctx.Err() != nil
		if x.BodyTimeout {
			x.BodyErr = nil
		}
		x.Reply = evidence.ReadReply(raw, q.id)
	}
	x.Reply.Quote = h.Quote(x.Reply.Shape, raw)
	if e := x.Reply.Error; e != nil {
		e.Message, e.Data = h.Short(e.Message), h.Short(e.Data)
	}
	x.Body = h.Beginning(raw, 4<<10)
	return raw
}

// events reads an event stream up to the response to a request. What comes before it
// belongs to it; what a server asks is not answered.
func (h *web) events(ctx context.Context, body io.Reader, x *evidence.Exchange, q request) []byte {
	reader := wire.NewEventReader(body, q.most)
	var last []byte
	h.polled = poll{}
	for {
		event, err := reader.Next()
		if event.ID != "" {
			h.polled.last = event.ID
		}
		if event.Retry > 0 {
			h.polled.retry = time.Duration(event.Retry) * time.Millisecond
		}
		if err != nil {
			x.Whole = errors.Is(err, io.EOF)
			x.BodyTimeout = ctx.Err() != nil
			if !x.Whole && !x.BodyTimeout {
				x.BodyErr = err
			}
			if last == nil {
				x.Reply = evidence.Reply{Shape: evidence.Nothing}
			}
			x.Reply.Event = true
			return last
		}
		if len(bytes.TrimSpace(event.Data)) == 0 {
			continue
		}
		x.Size += len(event.Data)
		reply := evidence.ReadReply(event.Data, q.id)
		reply.Event = true
		f, err := wire.ReadFrame(event.Data)
		if err == nil && (f.Kind == wire.Notification || f.Kind == wire.Request) {
			continue
		}
		x.Reply, last = reply, bytes.Clone(event.Data)
		if reply.Shape != evidence.Message || reply.ID == "" {
			x.Whole = true
			return last
		}
	}
}

// greeting takes what came over the last connection, where it was no HTTP.
func (h *web) greeting() {
	if h.ear == nil {
		return
	}
	first := h.ear.bytes()
	if len(first) == 0 || bytes.HasPrefix(first, []byte("HTTP/1")) || h.at.Scheme == "https" {
		return
	}
	if first[0] == 0x15 || first[0] == 0x16 {
		return // TLS, which is looked at by itself
	}
	h.Evidence.Greeting = []byte(h.Masker.Text(string(first)))
}

// challenge makes a challenge fit to be shown. Its first word is that of a scheme, after
// which a credential would stand; here parameters do.
func (h *web) challenge(text string) string {
	scheme, rest, found := strings.Cut(text, " ")
	if !found {
		return h.Short(text)
	}
	return scheme + " " + h.Short(rest)
}

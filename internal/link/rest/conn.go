// Package rest reaches a plain REST API: a call of a tool becomes an HTTP request by
// the mapping of package restmap, and its answer the result of the tool.
package rest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/locker"
)

// Conn is a conversation with a REST API: every tool is one of its operations.
// It needs no session.
type Conn struct {
	*httpx.Client
	query  string // parameter that carries the secret; "" when a header does
	offers link.Offer
	tools  map[string]restmap.Tool
}

// New prepares a conversation with the API that a document describes. The
// error is a *restmap.PickError.
func New(t httpx.Target, query string, doc *restmap.Document, picks []restmap.Pick, o link.Options) (*Conn, error) {
	list, err := doc.Tools(picks)
	if err != nil {
		return nil, err
	}
	l := &Conn{Client: httpx.New(t, o), query: query, tools: map[string]restmap.Tool{}}
	l.offers = link.Offer{
		Greeting: link.Greeting{
			Name:         l.Short(doc.Title),
			Version:      l.Short(doc.Version),
			Instructions: base.Bounded(doc.Description),
			Tools:        true,
		},
		Lists: map[tools.Kind][]tools.Tool{},
	}
	for _, tool := range list {
		l.tools[tool.Name] = tool
		l.offers.Lists[tools.Tools] = append(l.offers.Lists[tools.Tools], tool.Tool)
	}
	return l, nil
}

// Traits implements Transport: what is offered follows from the document alone.
func (l *Conn) Traits() link.Traits { return link.Traits{Static: true} }

// Open implements Transport; there is no session.
func (l *Conn) Open(context.Context) (link.Greeting, error) { return l.offers.Greeting, nil }

// Fork implements Transport; there is nothing that could be somebody's own.
func (l *Conn) Fork(wire.Caps, bool) link.Transport { return nil }

// Diagnostics implements Transport; there is nothing besides the answers.
func (l *Conn) Diagnostics() link.Diagnostics { return link.Diagnostics{} }

// Altered implements Transport.
func (l *Conn) Altered() string { return "" }

// Offer implements Transport.
func (l *Conn) Offer(context.Context) (link.Offer, error) { return l.offers, nil }

// Probe implements Link: it asks for the base address. Whatever answers there is
// a server; only what is wrong with reaching it, or with the credential, fails.
func (l *Conn) Probe(ctx context.Context) (link.Offer, []team.Stage, error) {
	c := l.Stages(nil)
	defer c.End()
	c.At("connect")
	ctx, cancel := context.WithTimeout(ctx, l.Options.SetupTimeout)
	defer cancel()
	err := l.knock(c.Trace(ctx))
	c.Opened(err)
	if err != nil {
		return link.Offer{}, c.List(), err
	}
	return l.offers, c.List(), nil
}

func (l *Conn) knock(ctx context.Context) error {
	req, err := l.request(ctx, &restmap.Request{Method: http.MethodGet, Path: "/", Query: url.Values{}})
	if err != nil {
		return err
	}
	res, err := l.Do(req)
	if err != nil {
		return l.NetFailure(ctx, err, "initialize")
	}
	defer httpx.Drain(res.Body)
	if s := res.StatusCode; s == http.StatusUnauthorized || s >= 500 {
		return l.status(res, nil, "initialize")
	}
	return nil
}

func (l *Conn) status(res *http.Response, raw []byte, stage string) error {
	f := l.Fail(diagnosis.Evidence{
		Stage:           stage,
		Status:          res.StatusCode,
		HadCredential:   l.Target.HasCredential(),
		CredentialEnded: l.Target.EndedAt(),
		RetryAfter:      l.Short(res.Header.Get("Retry-After")),
		Challenge:       l.Short(res.Header.Get("WWW-Authenticate")), Body: l.Masker.Text(string(raw[:min(len(raw), 4<<10)])),
	}, nil)
	f.Refused, f.Status = true, res.StatusCode
	return f
}

// request builds an HTTP request below the base address.
func (l *Conn) request(ctx context.Context, r *restmap.Request) (*http.Request, error) {
	u, err := url.Parse(l.Target.URL)
	if err != nil {
		return nil, err
	}
	raw := strings.TrimSuffix(u.EscapedPath(), "/") + r.Path
	if u.Path, err = url.PathUnescape(raw); err != nil {
		return nil, err
	}
	u.RawPath = raw
	q := u.Query()
	for k, v := range r.Query {
		q[k] = append(q[k], v...)
	}
	if l.query != "" && !l.Target.Secret.Empty() {
		q.Set(l.query, l.Target.Secret.Reveal())
	}
	u.RawQuery = q.Encode()
	req, err := http.NewRequestWithContext(ctx, r.Method, u.String(), bytes.NewReader(r.Body))
	if err != nil {
		return nil, err
	}
	if r.Body == nil {
		req.Body, req.ContentLength = nil, 0
	}
	for _, h := range r.Header {
		req.Header.Add(h[0], h[1])
	}
	// What the registration says wins over what an agent sends.
	t := l.Target
	if l.query != "" {
		t.Secret = locker.Secret{}
	}
	for _, h := range t.Headers {
		req.Header.Del(h[0])
	}
	t.SetHeaders(req.Header, l.Options.Version)
	req.Header.Set("Accept", "application/json, */*;q=0.5")
	if r.Media != "" {
		req.Header.Set("Content-Type", r.Media)
	}
	return req, nil
}

// Begin implements link.Transport.
func (l *Conn) Begin(ctx context.Context, a *link.Ask) (link.Exchange, error) {
	id := l.RequestID(a)
	tool, ok := l.tools[a.Subject]
	if a.Method != "tools/call" || !ok {
		return &fixed{
			id:    id,
			frame: wire.AppendError(nil, fmt.Append(nil, id), wire.CodeMethodNotFound, "a REST API offers tools only", nil),
		}, nil
	}
	r, err := tool.Operation.Request(a.P.Arguments.Of(a.Src))
	if err != nil {
		// The model can read this, and mend its arguments.
		return l.result(id, err.Error(), nil, true), nil
	}
	req, err := l.request(ctx, r)
	if err != nil {
		return nil, l.Fail(diagnosis.Evidence{Stage: a.Stage, What: diagnosis.ArgumentsRefused, Note: "they make no address"}, err)
	}
	return l.send(ctx, id, req, a.Stage)
}

// send carries the request out and makes a tool's result of the response.
func (l *Conn) send(ctx context.Context, id uint64, req *http.Request, stage string) (link.Exchange, error) {
	res, err := l.Do(req)
	if err != nil {
		return nil, l.NetFailure(ctx, err, stage)
	}
	defer res.Body.Close()
	limit := l.Options.MessageLimit
	raw, err := io.ReadAll(io.LimitReader(res.Body, int64(limit)+1))
	switch {
	case err != nil && (ctx.Err() != nil || link.IsTimeout(err)):
		return nil, l.NetFailure(ctx, err, stage)
	case err != nil:
		return nil, l.Fail(diagnosis.Evidence{Stage: stage, What: diagnosis.OutcomeUnknown}, err)
	case len(raw) > limit:
		return nil, l.Fail(
			diagnosis.Evidence{Stage: stage, What: diagnosis.TooLarge, Note: fmt.Sprintf("the limit is %d bytes", limit)},
			nil,
		)
	}
	switch s := res.StatusCode; {
	case s == http.StatusUnauthorized, s >= 300 && s < 400:
		return nil, l.status(res, raw, stage)
	case s >= 400:
		text := fmt.Sprintf("the API answered %d %s", s, http.StatusText(s))
		if after := res.Header.Get("Retry-After"); after != "" {
			text += ", try again after " + l.Short(after)
		}
		if said := l.words(raw, res.Header); said != "" {
			text += ": " + said
		}
		return l.result(id, text, nil, true), nil
	}
	media := httpx.MediaType(res.Header)
	if media == "application/json" || strings.HasSuffix(media, "+json") {
		if len(bytes.TrimSpace(raw)) == 0 {
			return l.result(id, "done", nil, false), nil
		}
		if _, err := wire.Whole(raw); err != nil {
			return l.result(id, "the API says that this is JSON, but it is not: "+l.words(raw, res.Header), nil, true), nil
		}
		return l.result(id, string(raw), bytes.TrimSpace(raw), false), nil
	}
	if len(raw) == 0 {
		return l.result(id, fmt.Sprintf("done (%d)", res.StatusCode), nil, false), nil
	}
	return l.result(id, l.words(raw, res.Header), nil, false), nil
}

// words is a body as text: bounded, and described when it is none.
func (l *Conn) words(raw []byte, h http.Header) string {
	if len(raw) == 0 {
		return ""
	}
	if !utf8.Valid(raw) {
		return fmt.Sprintf("%d bytes of %s, which is no text", len(raw), h.Get("Content-Type"))
	}
	const most = 256 << 10
	if len(raw) > most {
		return strings.ToValidUTF8(string(raw[:most]), "") + fmt.Sprintf("... (%d bytes in all)", len(raw))
	}
	return string(raw)
}

// result is a tool's result. Structured content is an object (MCP up to
// 2025-11-25), so anything else is put into one.
func (l *Conn) result(id uint64, text string, structured []byte, failed bool) link.Exchange {
	out := append(make([]byte, 0, 2*len(text)+128), `{"content":[{"type":"text","text":`...)
	out = append(append(out, wire.Quote(text)...), "}]"...)
	if failed {
		out = append(out, `,"isError":true`...)
	}
	if structured != nil {
		out = append(out, `,"structuredContent":`...)
		if structured[0] == '{' {
			out = append(out, structured...)
		} else {
			out = append(append(append(out, `{"result":`...), structured...), '}')
		}
	}
	return &fixed{id: id, frame: wire.AppendResult(nil, fmt.Append(nil, id), append(out, '}'))}
}

// fixed is an exchange whose answer is there already.
type fixed struct {
	id    uint64
	frame json.RawMessage
}

// ID implements Exchange.
func (x *fixed) ID() uint64 { return x.id }

// Next implements Exchange.
func (x *fixed) Next() ([]byte, wire.Frame, error) {
	f, err := wire.ReadFrame(x.frame)
	return x.frame, f, err
}

// Answer implements Exchange; nothing is ever asked.
func (x *fixed) Answer(context.Context, []byte) error { return nil }

// Close implements Exchange.
func (x *fixed) Close() {}

// Cancel implements Link: the end of the request is the cancel.
func (l *Conn) Cancel(context.Context, uint64, string) error { return nil }

// Revision implements Link; a REST API has none.
func (l *Conn) Revision() string { return "" }

// Notify implements Link; a REST API takes no notifications.
func (l *Conn) Notify(context.Context, string, []byte) error { return nil }

// Subscribe implements link.Transport.
func (l *Conn) Subscribe(context.Context, string, bool) error {
	return l.Fail(diagnosis.Evidence{Stage: "subscribe", What: diagnosis.NotOffered, Note: "a REST API has no subscriptions"}, nil)
}

// Log implements Link; a REST API sends no log messages.
func (l *Conn) Log(context.Context, string) error { return nil }

// Close implements link.Transport.
func (l *Conn) Close(context.Context) { l.CloseIdleConnections() }

// Listen implements Transport: it looks whether the API is still there, now and then.
func (l *Conn) Listen(ctx context.Context, ready func()) bool {
	ready()
	select {
	case <-time.After(restEvery):
	case <-ctx.Done():
	}
	return true
}

// restEvery is how often a REST API is looked at.
const restEvery = 5 * time.Minute

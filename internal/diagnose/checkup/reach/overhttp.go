package reach

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/checkup/exam"
)

// overHTTP is a conversation over streamable HTTP.
type overHTTP struct {
	*web
	address   string
	session   string
	revision  string
	stateless bool
	began     time.Time
}

// header are the headers of a request within the conversation.
func (c *overHTTP) header(method string) http.Header {
	h := http.Header{}
	if c.session != "" {
		h["Mcp-Session-Id"] = []string{c.session}
	}
	if c.revision >= wire.Rev20250618 {
		h[wire.HeaderVersion] = []string{c.revision}
	}
	if c.stateless {
		h[wire.HeaderMethod] = []string{method}
	}
	return h
}

// Ask implements exam.Speaker.
func (c *overHTTP) Ask(ctx context.Context, method string, params []byte) (evidence.Ask, []byte) {
	id := c.ID()
	body := wire.AppendRequest(nil, id, method, params)
	header := c.header(method)
	if c.stateless {
		body = c.envelope(id, method, exam.OrEmpty(params), header)
	}
	x, raw := c.send(ctx, request{
		purpose: evidence.Lists, method: http.MethodPost, address: c.address, id: id, forms: c.forms, header: header,
		body: body, most: c.Options.MessageLimit,
	})
	a := evidence.Ask{
		Step: x.Step, Method: method, Status: x.Status, Reply: x.Reply, Body: x.Body, Bytes: len(raw), Error: x.Reply.Error, Header: x.Header,
	}
	a.Timeout = a.Timeout || x.BodyTimeout
	if a.Err == nil {
		a.Err = x.BodyErr
	}
	if a.Err != nil && a.Status != 0 {
		a.Status = 0 // it began, and broke off
	}
	if x.Reply.Event && x.Reply.Shape == evidence.Nothing && a.Err == nil && !a.Timeout {
		a.Err, a.Status = io.ErrUnexpectedEOF, 0
	}
	return a, raw
}

// envelope is a request of the stateless era: with the members and the headers that tell
// what it is about (MCP 2026-07-28, transports).
func (c *overHTTP) envelope(id uint64, method string, params []byte, header http.Header) []byte {
	info, _ := json.Marshal(c.Info()) // texts cannot fail to be written
	ask := wire.Ask{Method: method, Src: params, Params: wire.Span{Start: 0, End: len(params)}}
	if p, err := wire.ReadParams(params, ask.Params, method); err == nil {
		ask.P, ask.Subject = p, p.Subject
	}
	if ask.Subject != "" {
		header[wire.HeaderName] = []string{wire.HeaderValue(ask.Subject)}
	}
	return ask.Append(nil, id, wire.Envelope(wire.NewestStateless, wire.Caps{}, info, ""))
}

// Notify implements exam.Speaker.
func (c *overHTTP) Notify(ctx context.Context, method string) {
	if c.stateless {
		return
	}
	c.send(ctx, request{
		method: http.MethodPost, address: c.address, forms: c.forms, header: c.header(method),
		body: wire.AppendNotification(nil, method, nil), limit: probeTime,
	})
}

// end ends the session.
func (c *overHTTP) end(ctx context.Context) {
	if c.session != "" {
		c.send(context.WithoutCancel(ctx), request{
			method: http.MethodDelete, address: c.address, forms: c.forms, header: c.header(""), limit: time.Second,
		})
	}
}

// Listed looks, when lists were read, whether the session is still known, and whether the
// event stream stays open.
func (c *overHTTP) Listed(ctx context.Context, s *evidence.Session) {
	last := s.Asks[len(s.Asks)-1]
	if last.Status == http.StatusNotFound && c.session != "" {
		s.SessionLost = true
		s.Reopened = c.probe(ctx, evidence.Again, c.address).Opened
	} else if !c.stateless && !last.Failed() {
		s.StreamClosed = c.stream(ctx)
	}
}

// stream looks whether the event stream that a server may offer stays open.
func (c *overHTTP) stream(ctx context.Context) (closed int) {
	for range 3 {
		sctx, stop := context.WithCancel(ctx)
		begin := time.AfterFunc(getTime, stop) // for the head of the answer
		header := c.header("")
		header["Accept"] = []string{"text/event-stream"}
		x := evidence.Exchange{}
		res, err := c.once(sctx, request{method: http.MethodGet, address: c.address, forms: c.forms, header: header}, &x)
		if !begin.Stop() || err != nil {
			if err == nil {
				_ = res.Body.Close()
			}
			stop()
			return 0
		}
		limit := time.AfterFunc(streamTime, stop) // a stream that lasts so long stays open
		streams := res.StatusCode == http.StatusOK && strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream")
		raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
		ended := limit.Stop()
		_ = res.Body.Close()
		stop()
		// A server may close its stream when it has said when to come back (MCP 2025-11-25).
		asked := bytes.Contains(raw, []byte("retry:")) || bytes.Contains(raw, []byte("id:"))
		if !streams || !ended || asked || errors.Is(err, context.Canceled) {
			return 0
		}
		closed++
	}
	return closed
}

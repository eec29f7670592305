package streamable

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/httpx"
)

// exchange is the response to one POST.
type exchange struct {
	link   *Conn
	ctx    context.Context
	res    *http.Response
	id     uint64
	s      *session
	stage  string
	events *wire.EventReader
	last   string        // id of the last event, to resume after
	retry  time.Duration // how long the server wants to be left alone before that
	tries  int           // resumptions since the last message
	asked  bool          // the server named a time to come back after
	pauses bool          // the caller wants to be told of an interruption
	paused error         // the interruption that the caller was told of
	buf    *bytes.Buffer
	count  int
	done   bool
}

var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// maxPooled is the largest buffer that goes back to the pool: one huge answer
// must not keep its memory for ever.
const maxPooled = 256 << 10

// maxStrayMsgs is how many messages may come before the answer of one request.
const maxStrayMsgs = 10_000

// Limits on the resumption of a stream.
const (
	maxResumes   = 5
	longestRetry = 30 * time.Second
)

func (l *Conn) exchange(res *http.Response, id uint64, s *session, stage string) *exchange {
	return &exchange{link: l, ctx: res.Request.Context(), res: res, id: id, s: s, stage: stage, retry: time.Second}
}

// ID implements Exchange.
func (x *exchange) ID() uint64 { return x.id }

// Close releases the exchange. The frames it returned are no longer valid.
func (x *exchange) Close() {
	if x.done {
		// The end of a stream normally comes with the answer; a server that holds
		// it open costs its connection, not our time.
		httpx.Drain(x.res.Body)
	} else {
		// What is still to come is not wanted, so the connection cannot be kept.
		_ = x.res.Body.Close()
	}
	if x.buf != nil && x.buf.Cap() <= maxPooled {
		x.buf.Reset()
		buffers.Put(x.buf)
	}
	x.buf = nil
}

// Next implements Exchange.
func (x *exchange) Next() ([]byte, wire.Frame, error) {
	if x.events == nil {
		switch mt := httpx.MediaType(x.res.Header); mt {
		case "application/json":
			return x.single()
		case "text/event-stream":
			x.events = wire.NewEventReader(x.res.Body, x.link.Options.MessageLimit)
		case "text/html":
			return nil, wire.Frame{}, x.fail(diagnosis.HTMLPage, "", nil)
		default:
			if x.res.StatusCode == http.StatusAccepted || x.res.ContentLength == 0 {
				return nil, wire.Frame{}, x.fail(diagnosis.NeverAnswers, "it accepted the request without an answer", nil)
			}
			return nil, wire.Frame{}, x.fail(diagnosis.NotJSONRPC, fmt.Sprintf("its content type is %q", x.link.Short(mt)), nil)
		}
	}
	for {
		ev, err := wire.Event{}, x.paused
		if x.paused = nil; err == nil {
			ev, err = x.events.Next()
			if err != nil && x.pauses && x.asked && x.ctx.Err() == nil {
				// Also where nothing can be resumed: the agent then comes back for the reason.
				x.paused, x.asked = err, false
				return nil, wire.Frame{}, &link.Pause{Retry: x.retry}
			}
		}
		if err != nil {
			if again := x.resume(err); again != nil {
				return nil, wire.Frame{}, again
			}
			continue
		}
		x.last = ev.ID
		if ev.Retry >= 0 {
			x.asked, x.retry = true, min(time.Duration(ev.Retry)*time.Millisecond, longestRetry)
		}
		if len(ev.Data) == 0 || (ev.Name != "" && ev.Name != "message") {
			continue
		}
		x.tries = 0
		if x.count++; x.count > maxStrayMsgs {
			return nil, wire.Frame{}, x.fail(
				diagnosis.Malformed,
				fmt.Sprintf("it sent more than %d messages for one request", maxStrayMsgs),
				nil,
			)
		}
		x.link.Heard(link.Received, ev.Data)
		f, err := wire.ReadFrame(ev.Data)
		if err != nil {
			return nil, wire.Frame{}, x.fail(diagnosis.NotJSONRPC, err.Error(), err)
		}
		switch f.Kind {
		case wire.Response:
			if !wire.SameID(ev.Data, f.ID, x.id) {
				continue // an answer nobody here asked for
			}
			x.done = true
			return ev.Data, f, nil
		case wire.Notification:
			return ev.Data, f, nil
		case wire.Request:
			if x.s.stateless {
				continue // that era has no requests of servers
			}
			return ev.Data, f, nil
		}
	}
}

// resume takes a stream up again that ended before its answer (MCP 2025-03-26 to
// 2025-11-25, transports: resumability). It returns why that is not possible.
func (x *exchange) resume(broken error) error {
	if !x.resumable(broken) {
		return x.readFail(broken)
	}
	x.tries++
	select {
	case <-time.After(x.retry):
	case <-x.ctx.Done():
		return x.readFail(broken)
	}
	res, err := x.link.Get(x.ctx, x.s.header, x.last)
	if err != nil {
		return x.readFail(broken)
	}
	if res.StatusCode != http.StatusOK || httpx.MediaType(res.Header) != "text/event-stream" {
		httpx.Drain(res.Body)
		return x.readFail(broken)
	}
	_ = x.res.Body.Close()
	x.res, x.events = res, wire.NewEventReader(res.Body, x.link.Options.MessageLimit)
	return nil
}

func (x *exchange) resumable(broken error) bool {
	return x.last != "" && !x.s.stateless && x.ctx.Err() == nil && !errors.Is(broken, wire.ErrEventTooLarge) && x.tries < maxResumes
}

func (x *exchange) single() ([]byte, wire.Frame, error) {
	if x.done {
		return nil, wire.Frame{}, x.fail(diagnosis.Malformed, "nothing follows a single answer", nil)
	}
	x.buf = buffers.Get().(*bytes.Buffer)
	limit := x.link.Options.MessageLimit
	if n := x.res.ContentLength; n > int64(limit) {
		return nil, wire.Frame{}, x.fail(diagnosis.TooLarge, fmt.Sprintf("%d bytes, the limit is %d", n, limit), nil)
	} else if n > 0 {
		x.buf.Grow(int(n) + bytes.MinRead)
	}
	if _, err := x.buf.ReadFrom(io.LimitReader(x.res.Body, int64(limit)+1)); err != nil {
		return nil, wire.Frame{}, x.readFail(err)
	}
	body := x.buf.Bytes()
	if len(body) > limit {
		return nil, wire.Frame{}, x.fail(diagnosis.TooLarge, fmt.Sprintf("the limit is %d bytes", limit), nil)
	}
	x.done = true
	x.link.Heard(link.Received, body)
	f, err := wire.ReadFrame(body)
	if err != nil {
		return nil, wire.Frame{}, x.fail(diagnosis.NotJSONRPC, err.Error(), err)
	}
	if f.Kind != wire.Response {
		return nil, wire.Frame{}, x.fail(diagnosis.Malformed, "it answered a request with a "+f.Kind.String(), nil)
	}
	if !wire.SameID(body, f.ID, x.id) && !(string(f.ID.Of(body)) == "null" && !f.Error.Empty()) {
		return nil, wire.Frame{}, x.fail(diagnosis.Malformed, "its answer carries another id than the request", nil)
	}
	return body, f, nil
}

// Answer implements Exchange.
func (x *exchange) Answer(ctx context.Context, body []byte) error {
	return x.link.reply(ctx, x.s, body)
}

// reply posts a response to a request of the server.
func (l *Conn) reply(ctx context.Context, s *session, body []byte) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	res, err := l.Post(ctx, s.header, body, "answer")
	if err == nil {
		httpx.Drain(res.Body)
	}
	return err
}

func (x *exchange) fail(what diagnosis.Cause, note string, cause error) error {
	return x.link.Fail(diagnosis.Evidence{Stage: x.stage, What: what, Note: note}, cause)
}

func (x *exchange) readFail(err error) error {
	switch {
	case errors.Is(err, wire.ErrEventTooLarge):
		return x.fail(diagnosis.TooLarge, err.Error(), err)
	case x.ctx.Err() != nil || link.IsTimeout(err):
		return x.link.NetFailure(x.ctx, err, x.stage)
	case x.stage == "call":
		return x.fail(diagnosis.OutcomeUnknown, "", err)
	}
	return x.fail(diagnosis.StreamCut, "", err)
}

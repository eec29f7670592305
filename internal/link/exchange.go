package link

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
)

// httpExchange is the response to one POST.
type httpExchange struct {
	link   *HTTP
	res    *http.Response
	id     uint64
	header http.Header // of the request, for answers to the server
	stage  string
	events *wire.EventReader
	buf    *bytes.Buffer
	count  int
	done   bool
}

var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// maxPooled is the largest buffer that goes back to the pool: one huge answer
// must not keep its memory for ever.
const maxPooled = 256 << 10

// lingerStream is how long the end of an answered stream is waited for.
const lingerStream = 100 * time.Millisecond

func (l *HTTP) exchange(res *http.Response, id uint64, header http.Header, stage string) *httpExchange {
	return &httpExchange{link: l, res: res, id: id, header: header, stage: stage}
}

// Close releases the exchange. The frames it returned are no longer valid.
func (x *httpExchange) Close() {
	switch {
	case x.done && x.events != nil:
		// The end of the stream normally comes with the answer; a server that
		// holds the stream open costs its connection, not our time.
		t := time.AfterFunc(lingerStream, func() { _ = x.res.Body.Close() })
		drain(x.res.Body)
		t.Stop()
	case x.done:
		drain(x.res.Body)
	default:
		// What is still to come is not wanted, so the connection cannot be kept.
		_ = x.res.Body.Close()
	}
	if x.buf != nil && x.buf.Cap() <= maxPooled {
		x.buf.Reset()
		buffers.Put(x.buf)
	}
	x.buf = nil
}

// Next returns the next message for this request: notifications, then the
// response. Requests of the server are answered here. The frame is valid until
// the next call. The error is a *Failure, or that of the context.
func (x *httpExchange) Next() ([]byte, wire.Frame, error) {
	if x.events == nil {
		switch mt := mediaType(x.res.Header); mt {
		case "application/json":
			return x.single()
		case "text/event-stream":
			x.events = wire.NewEventReader(x.res.Body, x.link.o.MessageLimit)
		case "text/html":
			return nil, wire.Frame{}, x.fail(diagnosis.HTMLPage, "", nil)
		default:
			if x.res.StatusCode == http.StatusAccepted || x.res.ContentLength == 0 {
				return nil, wire.Frame{}, x.fail(diagnosis.NeverAnswers, "it accepted the request without an answer", nil)
			}
			return nil, wire.Frame{}, x.fail(diagnosis.NotJSONRPC, fmt.Sprintf("its content type is %q", x.link.short(mt)), nil)
		}
	}
	for {
		ev, err := x.events.Next()
		if err != nil {
			return nil, wire.Frame{}, x.readFail(err)
		}
		if len(ev.Data) == 0 || (ev.Name != "" && ev.Name != "message") {
			continue
		}
		if x.count++; x.count > maxStrayMsgs {
			return nil, wire.Frame{}, x.fail(diagnosis.Malformed, fmt.Sprintf("it sent more than %d messages for one request", maxStrayMsgs), nil)
		}
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
			x.refuse(ev.Data, f)
		}
	}
}

func (x *httpExchange) single() ([]byte, wire.Frame, error) {
	if x.done {
		return nil, wire.Frame{}, x.fail(diagnosis.Malformed, "nothing follows a single answer", nil)
	}
	x.buf = buffers.Get().(*bytes.Buffer)
	limit := x.link.o.MessageLimit
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

// refuse answers a request of the server: ping as the protocol asks, anything
// else with the error that says so, since no such capability was declared.
func (x *httpExchange) refuse(frame []byte, f wire.Frame) {
	ctx, cancel := context.WithTimeout(x.res.Request.Context(), 10*time.Second)
	defer cancel()
	id := f.ID.Of(frame)
	body := wire.AppendResult(nil, id, []byte("{}"))
	if f.Method != "ping" {
		body = wire.AppendError(nil, id, wire.CodeMethodNotFound, "not supported by this client", nil)
	}
	// If the answer cannot be delivered, the server's own time limit ends its
	// wait; the call's outcome will tell.
	if res, err := x.link.post(ctx, x.header, body, x.stage); err == nil {
		drain(res.Body)
	}
}

func (x *httpExchange) fail(what diagnosis.Cause, note string, cause error) error {
	return x.link.fail(diagnosis.Evidence{Stage: x.stage, What: what, Note: note}, cause)
}

func (x *httpExchange) readFail(err error) error {
	ctx := x.res.Request.Context()
	switch {
	case errors.Is(err, wire.ErrEventTooLarge):
		return x.fail(diagnosis.TooLarge, err.Error(), err)
	case ctx.Err() != nil || isTimeout(err):
		return x.link.netFail(ctx, err, x.stage)
	case x.stage == "call":
		return x.fail(diagnosis.OutcomeUnknown, "", err)
	}
	return x.fail(diagnosis.StreamCut, "", err)
}

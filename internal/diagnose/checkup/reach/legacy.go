package reach

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/checkup/exam"
	"bouncer/internal/link"
)

// oldStream is an open event stream of the transport of 2024-11-05, and where its
// messages go.
type oldStream struct {
	*web
	endpoint string
	frames   chan []byte // closed by the reader when the stream ends
	stop     context.CancelFunc
	began    time.Time
}

// legacyStream asks an address for an event stream, and reads where messages go. The
// stream is nil when there is none.
func (h *web) legacyStream(ctx context.Context, address string) *oldStream {
	h.Tell("transport", "asking for an event stream")
	x := evidence.Exchange{Purpose: evidence.Legacy, Method: http.MethodGet, URL: h.shown(address)}
	began := time.Now()
	sctx, stop := context.WithCancel(ctx)
	limit := time.AfterFunc(min(probeTime, h.Options.Patience), stop)
	defer limit.Stop()
	q := request{method: http.MethodGet, address: address, forms: h.forms, header: http.Header{"Accept": {"text/event-stream"}}}
	res, err := h.once(sctx, q, &x) //nolint:bodyclose // whoever reads the stream closes it
	x.Took = time.Since(began)
	if err != nil {
		x.Err, x.Timeout = unwrapped(err), link.IsTimeout(err) || sctx.Err() != nil
		h.keep(x)
		stop()
		return nil
	}
	if res.StatusCode != http.StatusOK || !strings.HasPrefix(strings.ToLower(res.Header.Get("Content-Type")), "text/event-stream") {
		h.read(sctx, res, &x, request{most: 4 << 10})
		h.keep(x)
		stop()
		return nil
	}
	x.Status, x.Header = res.StatusCode, map[string]string{"Content-Type": res.Header.Get("Content-Type")}
	reader := wire.NewEventReader(res.Body, h.Options.MessageLimit)
	endpoint := ""
	for endpoint == "" {
		event, err := reader.Next()
		if err != nil {
			x.Whole = errors.Is(err, io.EOF)
			break
		}
		if event.Name == "endpoint" {
			endpoint = strings.TrimSpace(string(event.Data))
		}
	}
	x.Took, x.Endpoint = time.Since(began), h.Masker.Text(endpoint)
	h.keep(x)
	if endpoint == "" || !limit.Stop() {
		stop()
		_ = res.Body.Close()
		return nil
	}
	o := &oldStream{web: h, endpoint: endpoint, frames: make(chan []byte, 16), stop: stop, began: time.Now()}
	go func() { // ends with the stream, which stop ends
		defer close(o.frames)
		defer res.Body.Close()
		for {
			event, err := reader.Next()
			if err != nil {
				return
			}
			if len(event.Data) == 0 {
				continue
			}
			select {
			case o.frames <- bytes.Clone(event.Data):
			case <-sctx.Done():
				return
			}
		}
	}()
	return o
}

// openLegacy opens a conversation over an event stream of 2024.
func (h *web) openLegacy(ctx context.Context, address string) bool {
	o := h.legacyStream(ctx, address)
	if o == nil {
		return false
	}
	defer o.close()
	at, err := url.Parse(address)
	if err != nil {
		return false
	}
	to, err := at.Parse(o.endpoint)
	if err != nil || to.Host != at.Host || to.Scheme != at.Scheme {
		return false // the credential must not go elsewhere
	}
	o.endpoint = to.String()
	a, frame := o.Ask(ctx, "initialize", h.Opening())
	i := len(h.Evidence.Probes) - 1
	if a.Reply.Shape != evidence.Message || !a.Reply.Result && a.Error == nil {
		return false
	}
	stream := h.Evidence.Find(evidence.Legacy)
	if i >= 0 && stream != nil {
		stream.Reply = a.Reply
	}
	if a.Error != nil {
		h.Evidence.Session = &evidence.Session{Refused: a.Error}
		h.Evidence.Target.Transport = "sse"
		stream.Opened = true
		return true
	}
	stream.Opened = true
	s := exam.ReadGreeting(frame)
	s.Reply = a.Reply
	h.accepted(stream, "the event-stream transport of 2024-11-05")
	h.Converse(ctx, o, s)
	return true
}

func (o *oldStream) close() {
	o.stop()
	for range o.frames { // until the reader has ended
	}
}

// Ask implements exam.Speaker.
func (o *oldStream) Ask(ctx context.Context, method string, params []byte) (evidence.Ask, []byte) {
	a := evidence.Ask{Method: method}
	id := o.ID()
	began := time.Now()
	ctx, stop := context.WithTimeout(ctx, o.Options.Patience)
	defer stop()
	x, _ := o.send(ctx, request{
		purpose: evidence.Posted, method: http.MethodPost, address: o.endpoint, forms: o.forms,
		body: wire.AppendRequest(nil, id, method, params), most: 4 << 10,
	})
	x.Endpoint = ""
	if method == "initialize" {
		o.keep(x)
	}
	a.Took, a.Err, a.Timeout = time.Since(began), x.Err, x.Timeout
	if x.Status < 200 || x.Status > 299 {
		a.Status, a.Body, a.Reply, a.Header = x.Status, x.Body, x.Reply, x.Header
		return a, nil
	}
	return a, o.answer(ctx, &a, id, began)
}

// answer waits for the answer to a request on the stream.
func (o *oldStream) answer(ctx context.Context, a *evidence.Ask, id uint64, began time.Time) []byte {
	for {
		select {
		case frame, ok := <-o.frames:
			a.Took = time.Since(began)
			if !ok {
				a.Err = io.ErrUnexpectedEOF
				return nil
			}
			if o.Taken(a, frame, id) {
				return frame
			}
		case <-ctx.Done():
			a.Took, a.Timeout = time.Since(began), true
			return nil
		}
	}
}

// Notify implements exam.Speaker.
func (o *oldStream) Notify(ctx context.Context, method string) {
	o.send(ctx, request{
		method: http.MethodPost, address: o.endpoint, forms: o.forms, body: wire.AppendNotification(nil, method, nil), most: 4 << 10,
	})
}

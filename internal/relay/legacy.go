package relay

import (
	"bytes"
	"net/http"
	"time"

	"bouncer/internal/core/wire"
)

// line is the event stream of a session of the oldest transport: everything
// that the agent is told goes over it (MCP 2024-11-05, HTTP with SSE).
type line struct {
	out   chan []byte   // never closed
	ended chan struct{} // closed when the stream has ended
}

// maxLine bounds the messages that wait for a slow agent.
const maxLine = 256

// send queues one message; false when the agent is gone. An agent that reads too
// slowly is waited for as long as a write may take.
func (l *line) send(frame []byte) bool {
	ev := wire.AppendEvent([]byte("event: message\n"), "", frame)
	select {
	case l.out <- ev:
		return true
	case <-l.ended:
		return false
	case <-time.After(writeLimit):
		return false
	}
}

// serveLegacy serves /sse: GET opens the session with its stream, POST takes
// messages for it.
func (d *Door) serveLegacy(w http.ResponseWriter, r *http.Request, v visitor) {
	switch r.Method {
	case http.MethodGet:
		d.openLine(w, r, v)
	case http.MethodPost:
		d.takeLegacy(w, r, v)
	default:
		w.Header().Set("Allow", "GET, POST")
		d.fail(w, http.StatusMethodNotAllowed, nil, wire.CodeInvalidRequest, "this address takes GET and POST")
	}
}

func (d *Door) openLine(w http.ResponseWriter, r *http.Request, v visitor) {
	l := &line{out: make(chan []byte, maxLine), ended: make(chan struct{})}
	s := &Session{scope: v.scope, revision: wire.Rev20241105, legacy: l, shown: v.shelf.digests()}
	if !d.sessions.open(s, v.pass, time.Now()) {
		w.Header().Set("Retry-After", "60")
		d.fail(w, http.StatusServiceUnavailable, nil, wire.CodeInternal, tooManySessions)
		return
	}
	defer d.sessions.end(s, errLeft) // the end of the stream is the end of the session
	defer close(l.ended)
	ended, ok := s.attach()
	if !ok {
		return
	}
	defer s.detach(ended)
	events, err := OpenEventStream(w)
	if err != nil || events.Send([]byte("event: endpoint\ndata: "+r.URL.Path+"?session="+s.id+"\n\n")) != nil {
		return
	}
	events.Serve(r.Context(), Feed{Next: s.box.feed("event: message\n", nil), Queue: l.out, Expires: v.pass.Expires, Gone: ended, Ended: d.ended})
}

// takeLegacy takes one message. It is accepted at once; the answer goes over the
// stream.
func (d *Door) takeLegacy(w http.ResponseWriter, r *http.Request, v visitor) {
	s := d.sessions.get(r.URL.Query().Get("session"))
	if s == nil || s.legacy == nil || s.passID != v.pass.ID || s.scope != v.scope {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is no such session; open one with GET on this address")
		return
	}
	var buf bytes.Buffer
	f, ok := d.read(w, r, &buf)
	if !ok {
		return
	}
	s.used.Store(time.Now().UnixMilli())
	body := buf.Bytes()
	items := []wire.Frame{f}
	if f.Kind == wire.Batch {
		items = nil
		for _, at := range f.Items {
			one, err := wire.ReadFrameAt(body, at)
			if err != nil {
				fe := frameError(err, wire.CodeInvalidRequest)
				d.fail(w, http.StatusBadRequest, nil, fe.Code, fe.What)
				return
			}
			items = append(items, one)
		}
	}
	if !s.reserve(len(items)) {
		d.fail(w, http.StatusTooManyRequests, nil, wire.CodeInternal, "too many requests of this session are under way")
		return
	}
	w.WriteHeader(http.StatusAccepted)
	// The answers outlive this request; the door waits for them when it closes.
	for _, one := range items {
		d.carrier.Go(func() {
			defer s.release()
			d.legacyMessage(v, s, body, one)
		})
	}
}

func (d *Door) legacyMessage(v visitor, s *Session, body []byte, f wire.Frame) {
	id := f.ID.Of(body)
	out := &answer{line: s.legacy}
	if f.Kind != wire.Request {
		d.accept(d.carrier.Context(), s, body, f)
		return
	}
	if f.Method == "initialize" {
		n, bad := d.greet(v, body, f)
		if bad != nil {
			out.refuse(id, bad.Code, bad.What, nil)
			return
		}
		if !s.introduce(n) {
			out.refuse(id, wire.CodeInvalidRequest, "this session was opened already", nil)
			return
		}
		out.final(wire.AppendResult(nil, id, d.greeting(v, n)))
		return
	}
	p, err := wire.ReadParams(body, f.Params, f.Method)
	if err != nil {
		fe := frameError(err, wire.CodeInvalidParams)
		out.refuse(id, fe.Code, fe.What, nil)
		return
	}
	rev, caps, info := s.introduced()
	if done := d.request(d.carrier.Context(), &caller{visitor: v, s: s, rev: rev, caps: caps, info: info}, body, f, p, out); done != nil {
		done()
	}
}

// reserve notes messages under way; false when there are too many.
func (n *Session) reserve(count int) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.ended || n.underway+count > maxSessionCalls {
		return false
	}
	n.underway += count
	return true
}

func (n *Session) release() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.underway--
}

// introduce takes over what initialize said; false when that was said before.
func (n *Session) introduce(from *Session) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.greeted {
		return false
	}
	n.greeted, n.revision, n.caps, n.info = true, from.revision, from.caps, from.info
	return true
}

func (n *Session) introduced() (rev string, caps wire.Caps, info []byte) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.revision, n.caps, n.info
}

package relay

import (
	"bytes"
	"net/http"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/stream"
)

// oldest serves agents of the oldest revision: one event stream, and messages beside it.
type oldest struct{ *Gateway }

// serveLegacy serves /sse: GET opens the session with its stream, POST takes
// messages for it.
func (d oldest) serveLegacy(w http.ResponseWriter, r *http.Request, v carry.Principal) {
	switch r.Method {
	case http.MethodGet:
		d.openLegacy(w, r, v)
	case http.MethodPost:
		d.takeLegacy(w, r, v)
	default:
		w.Header().Set("Allow", "GET, POST")
		d.fail(w, http.StatusMethodNotAllowed, nil, wire.CodeInvalidRequest, "this address takes GET and POST")
	}
}

func (d oldest) openLegacy(w http.ResponseWriter, r *http.Request, v carry.Principal) {
	l := &session.LegacyStream{Queue: make(chan []byte, session.MaxLine), Ended: make(chan struct{})}
	s := &session.Session{Scope: v.Scope, Revision: wire.Rev20241105, Legacy: l, Shown: v.Catalog.Digests()}
	s.Line = lineOf(w)
	if err := d.sessions.Open(s, v.Pass, v.Agent, time.Now()); err != nil {
		w.Header().Set("Retry-After", "60")
		d.fail(w, http.StatusServiceUnavailable, nil, wire.CodeInternal, err.Error()+tooManySessions)
		return
	}
	defer d.sessions.End(s, session.ErrLeft) // the end of the stream is the end of the session
	defer close(l.Ended)
	ended, ok := s.Attach()
	if !ok {
		return
	}
	defer s.Detach(ended)
	events, err := stream.Open(w)
	if err != nil || events.Send([]byte("event: endpoint\ndata: "+r.URL.Path+"?session="+s.Id+"\n\n")) != nil {
		return
	}
	events.Serve(
		r.Context(),
		stream.Feed{Next: s.Outbox.Feed("event: message\n", nil), Queue: l.Queue, Expires: v.Pass.Expires, Gone: ended, Ended: d.ended},
	)
}

// takeLegacy takes one message. It is accepted at once; the answer goes over the
// stream.
func (d oldest) takeLegacy(w http.ResponseWriter, r *http.Request, v carry.Principal) {
	s := d.sessions.Get(r.URL.Query().Get("session"))
	if s == nil || s.Legacy == nil || s.PassID != v.Pass.ID || s.Scope != v.Scope {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is no such session; open one with GET on this address")
		return
	}
	var buf bytes.Buffer
	f, ok := d.read(w, r, &buf)
	if !ok {
		return
	}
	s.Used.Store(time.Now().UnixMilli())
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
	if !s.Reserve(len(items)) {
		d.fail(w, http.StatusTooManyRequests, nil, wire.CodeInternal, "too many requests of this session are under way")
		return
	}
	w.WriteHeader(http.StatusAccepted)
	// The answers outlive this request; the gateway waits for them when it closes.
	for _, one := range items {
		d.carrier.Go(func() {
			defer s.Release()
			d.legacyMessage(v, s, body, one)
		})
	}
}

func (d oldest) legacyMessage(v carry.Principal, s *session.Session, body []byte, f wire.Frame) {
	id := f.ID.Of(body)
	out := &stream.Reply{Legacy: s.Legacy}
	if f.Kind != wire.Request {
		d.accept(d.carrier.Context(), s, body, f)
		return
	}
	if f.Method == "initialize" {
		n, bad := d.greet(v, body, f)
		if bad != nil {
			out.Refuse(id, bad.Code, bad.What, nil)
			return
		}
		if !s.Introduce(n) {
			out.Refuse(id, wire.CodeInvalidRequest, "this session was opened already", nil)
			return
		}
		out.Result(wire.AppendResult(nil, id, d.greeting(v, n)))
		return
	}
	p, err := wire.ReadParams(body, f.Params, f.Method)
	if err != nil {
		fe := frameError(err, wire.CodeInvalidParams)
		out.Refuse(id, fe.Code, fe.What, nil)
		return
	}
	rev, caps, info := s.Introduced()
	v = v.As(info, rev)
	s.Noted(v.How)
	caller := &carry.Caller{Principal: v, Session: s, Revision: rev, Caps: caps, Info: info}
	if done := d.request(d.carrier.Context(), caller, body, f, p, out); done != nil {
		done()
	}
}

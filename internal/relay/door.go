// Package relay is the hot path: the door where agents come in, their sessions,
// and the carrying of calls to servers and back.
//
// The Door reads a request's envelope, knows the agent by its pass, decides by
// the World in force, and hands the call to the server's link. It keeps no
// state of its own but the sessions. Every call, admitted or refused, ends in
// the journal.
package relay

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/journal"
	"bouncer/internal/origin"
)

// Recorder is the journal as the door needs it. Both methods are safe for
// concurrent use.
type Recorder interface {
	Record(ctx context.Context, e *journal.Entry) error
	Keep(b []byte) []byte
}

// Options configure a Door; the zero value is the default.
type Options struct {
	Version     string
	BodyLimit   int           // bytes of one request; 0 means 4 MiB
	CallTimeout time.Duration // for one call; 0 means 5 min
	Guard       *origin.Guard // required
	Log         *slog.Logger  // required
}

// Door serves /mcp and /mcp/{server}.
type Door struct {
	o        Options
	journal  Recorder
	world    atomic.Pointer[World]
	sessions *sessions
	swapping sync.Mutex

	ctx    context.Context // of the calls in flight; ends last
	cancel context.CancelCauseFunc
	ended  chan struct{} // closed when streams have to end
	once   sync.Once
	calls  sync.WaitGroup
	swept  chan struct{}
}

var (
	errShutdown = errors.New("the service is shutting down")
	errRevoked  = errors.New("the pass is no longer valid")
	errIdle     = errors.New("the session was idle for too long")
	errLeft     = errors.New("the agent ended its session")
	errCanceled = errors.New("the agent cancelled the call")
)

// NewDoor returns a door with an empty world, and starts its sweeper; Close
// ends it.
func NewDoor(ctx context.Context, j Recorder, o Options) *Door {
	if o.BodyLimit == 0 {
		o.BodyLimit = 4 << 20
	}
	if o.CallTimeout == 0 {
		o.CallTimeout = 5 * time.Minute
	}
	d := &Door{o: o, journal: j, sessions: newSessions(), ended: make(chan struct{}), swept: make(chan struct{})}
	d.ctx, d.cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	d.world.Store(&World{Rules: emptyRules})
	go d.sweep()
	return d
}

// Swap puts a new world in force. It tells every open session whose tool list
// is another one now, and ends those whose pass is no longer valid.
func (d *Door) Swap(w *World) {
	d.swapping.Lock()
	defer d.swapping.Unlock()
	d.world.Store(w)
	valid := map[string]bool{}
	now := time.Now()
	for _, p := range w.Passes {
		valid[p.ID] = !p.Revoked && now.Before(p.Expires)
	}
	d.sessions.each(func(s *Session) {
		a := w.Agents[s.agentID]
		if a == nil || !valid[s.passID] {
			d.sessions.end(s, errRevoked)
			return
		}
		shelf := w.View(a).shelf(s.scope)
		if shelf == nil {
			d.sessions.end(s, errLeft)
			return
		}
		if s.told(shelf.digest) {
			select {
			case s.changed <- struct{}{}:
			default:
			}
		}
	})
}

// World returns the world in force.
func (d *Door) World() *World { return d.world.Load() }

// Sessions is the number of open sessions.
func (d *Door) Sessions() int { return d.sessions.len() }

// EndStreams ends the event streams, so that a server that is shutting down
// does not wait for them. Calls go on.
func (d *Door) EndStreams() { d.once.Do(func() { close(d.ended) }) }

// Close waits for the calls in flight until ctx ends, then cancels them.
func (d *Door) Close(ctx context.Context) {
	d.EndStreams()
	idle := make(chan struct{})
	go func() { d.calls.Wait(); close(idle) }()
	select {
	case <-idle:
	case <-ctx.Done():
	}
	d.cancel(errShutdown)
	<-idle
	<-d.swept
}

func (d *Door) sweep() {
	defer close(d.swept)
	t := time.NewTicker(sweepEvery)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			limit := time.Now().Add(-idleSession).UnixMilli()
			d.sessions.each(func(s *Session) {
				if s.used.Load() < limit && !s.busy() {
					d.sessions.end(s, errIdle)
				}
			})
		case <-d.ended:
			return
		}
	}
}

// visitor is who stands at the door, and at which address.
type visitor struct {
	world *World
	pass  *Pass
	agent *Agent
	scope string
	shelf *shelf
}

// ServeHTTP serves one request to /mcp or /mcp/{server}.
func (d *Door) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !d.o.Guard.Allows(r) {
		d.fail(w, http.StatusForbidden, nil, wire.CodeInvalidRequest, "the Host or Origin header names a place that may not reach this service")
		return
	}
	v, ok := d.admit(w, r)
	if !ok {
		return
	}
	switch r.Method {
	case http.MethodPost:
		d.post(w, r, v)
	case http.MethodGet:
		d.stream(w, r, v)
	case http.MethodDelete:
		if s := d.session(w, r, v, nil); s != nil {
			d.sessions.end(s, errLeft)
			w.WriteHeader(http.StatusNoContent)
		}
	default:
		w.Header().Set("Allow", "GET, POST, DELETE")
		d.fail(w, http.StatusMethodNotAllowed, nil, wire.CodeInvalidRequest, "this address takes POST, GET and DELETE")
	}
}

// admit finds out who is at the door. Whoever shows no valid pass learns
// nothing but that.
func (d *Door) admit(w http.ResponseWriter, r *http.Request) (visitor, bool) {
	v := visitor{world: d.world.Load()}
	auth := r.Header.Get("Authorization")
	if len(auth) > 7 && strings.EqualFold(auth[:7], "bearer ") && len(auth) < 512 {
		v.pass = v.world.Passes[sha256.Sum256([]byte(strings.TrimSpace(auth[7:])))]
	}
	now := time.Now()
	if v.pass == nil || v.pass.Revoked || !now.Before(v.pass.Expires) {
		w.Header().Set("WWW-Authenticate", `Bearer realm="bouncer", error="invalid_token"`)
		d.fail(w, http.StatusUnauthorized, nil, wire.CodeInvalidRequest, "show a valid pass: Authorization: Bearer bnp_...; an agent's owner makes one with bouncer agent pass")
		return v, false
	}
	v.agent = v.world.Agents[v.pass.AgentID]
	v.pass.Used.Store(now.UnixMilli())
	if v.agent == nil || v.agent.Paused {
		d.fail(w, http.StatusForbidden, nil, wire.CodeNotAdmitted, "this agent is paused; ask "+v.world.Ask)
		return v, false
	}
	v.scope = strings.Trim(strings.TrimPrefix(r.URL.Path, "/mcp"), "/")
	if v.shelf = v.world.View(v.agent).shelf(v.scope); v.shelf == nil {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is no server of that name here")
		return v, false
	}
	return v, true
}

// session returns the visitor's session, or answers the request with why not.
func (d *Door) session(w http.ResponseWriter, r *http.Request, v visitor, id []byte) *Session {
	sid := r.Header.Get("Mcp-Session-Id")
	if sid == "" {
		d.fail(w, http.StatusBadRequest, id, wire.CodeInvalidRequest, "the Mcp-Session-Id header is missing; open a session with initialize first")
		return nil
	}
	s := d.sessions.get(sid)
	if s == nil || s.passID != v.pass.ID || s.scope != v.scope {
		d.fail(w, http.StatusNotFound, id, wire.CodeInvalidRequest, "there is no such session; open a new one with initialize")
		return nil
	}
	if rev := r.Header.Get("Mcp-Protocol-Version"); rev != "" && !wire.SpeaksSession(rev) {
		d.fail(w, http.StatusBadRequest, id, wire.CodeInvalidRequest, "the MCP-Protocol-Version header names a revision that is not spoken here")
		return nil
	}
	s.used.Store(time.Now().UnixMilli())
	return s
}

var bodies = sync.Pool{New: func() any { return new(bytes.Buffer) }}

const maxPooledBody = 256 << 10

func (d *Door) post(w http.ResponseWriter, r *http.Request, v visitor) {
	if !jsonBody(r.Header) {
		d.fail(w, http.StatusUnsupportedMediaType, nil, wire.CodeInvalidRequest, "the Content-Type header must be application/json")
		return
	}
	if !accepts(r.Header, "application/json") && !accepts(r.Header, "text/event-stream") {
		d.fail(w, http.StatusNotAcceptable, nil, wire.CodeInvalidRequest, "the Accept header must allow application/json and text/event-stream")
		return
	}
	// The small body is read whole before anything else happens: the decision
	// needs it, and a half-read body would race with the answer.
	buf := bodies.Get().(*bytes.Buffer)
	buf.Reset()
	defer func() {
		if buf.Cap() <= maxPooledBody {
			bodies.Put(buf)
		}
	}()
	if r.ContentLength > int64(d.o.BodyLimit) {
		d.tooLarge(w)
		return
	}
	if r.ContentLength > 0 {
		buf.Grow(int(r.ContentLength) + bytes.MinRead)
	}
	if _, err := buf.ReadFrom(io.LimitReader(r.Body, int64(d.o.BodyLimit)+1)); err != nil {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeParse, "the body broke off")
		return
	}
	body := buf.Bytes()
	if len(body) > d.o.BodyLimit {
		d.tooLarge(w)
		return
	}
	f, err := wire.ReadFrame(body)
	if err != nil {
		fe := &wire.FrameError{Code: wire.CodeInvalidRequest, What: err.Error()}
		errors.As(err, &fe)
		d.fail(w, http.StatusBadRequest, nil, fe.Code, fe.What)
		return
	}
	if f.Kind == wire.Request && f.Method == "initialize" {
		d.initialize(w, v, body, f)
		return
	}
	s := d.session(w, r, v, f.ID.Of(body))
	if s == nil {
		return
	}
	out := &answer{w: w, json: accepts(r.Header, "application/json"), stream: accepts(r.Header, "text/event-stream")}
	switch f.Kind {
	case wire.Batch:
		d.batch(w, r, v, s, body, f)
	case wire.Request:
		if done := d.request(r.Context(), v, s, body, f, out); done != nil {
			defer done()
		}
		out.end()
	default:
		d.accept(s, body, f)
		w.WriteHeader(http.StatusAccepted)
	}
}

func (d *Door) tooLarge(w http.ResponseWriter) {
	w.Header().Set("Connection", "close")
	d.fail(w, http.StatusRequestEntityTooLarge, nil, wire.CodeInvalidRequest, "the body is larger than the limit (body-limit in Bouncer's settings)")
}

// initialize opens a session (MCP, lifecycle).
func (d *Door) initialize(w http.ResponseWriter, v visitor, body []byte, f wire.Frame) {
	var p struct{ ProtocolVersion string }
	if f.Params.Empty() || json.Unmarshal(f.Params.Of(body), &p) != nil || p.ProtocolVersion == "" {
		d.fail(w, http.StatusBadRequest, f.ID.Of(body), wire.CodeInvalidParams, "params.protocolVersion is missing")
		return
	}
	rev := wire.Negotiate(p.ProtocolVersion)
	s := d.sessions.open(v.pass, v.scope, rev, v.shelf.digest, time.Now())
	if s == nil {
		w.Header().Set("Retry-After", "60")
		d.fail(w, http.StatusServiceUnavailable, f.ID.Of(body), wire.CodeInternal, "too many sessions are open; end some, or try again later")
		return
	}
	result, err := json.Marshal(map[string]any{
		"protocolVersion": rev,
		"capabilities":    map[string]any{"tools": map[string]any{"listChanged": true}},
		"serverInfo":      map[string]string{"name": "bouncer", "title": "Bouncer", "version": d.o.Version},
	})
	if err != nil {
		d.fail(w, http.StatusInternalServerError, f.ID.Of(body), wire.CodeInternal, "the answer could not be written")
		return
	}
	w.Header()["Mcp-Session-Id"] = []string{s.id}
	writeJSON(w, http.StatusOK, wire.AppendResult(nil, f.ID.Of(body), result))
}

// accept takes a notification or a response.
func (d *Door) accept(s *Session, body []byte, f wire.Frame) {
	if f.Kind == wire.Notification && f.Method == "notifications/cancelled" && !f.Params.Empty() {
		if id := wire.Member(body, f.Params, "requestId"); !id.Empty() {
			s.cancel(string(id.Of(body)), errCanceled)
		}
	}
}

// request answers one request through out. The returned function, if any, is
// to be called after out has been flushed.
func (d *Door) request(ctx context.Context, v visitor, s *Session, body []byte, f wire.Frame, out *answer) func() {
	id := f.ID.Of(body)
	switch f.Method {
	case "tools/call":
		return d.call(ctx, v, s, body, f, out)
	case "tools/list":
		out.final(wire.AppendResult(nil, id, v.shelf.list))
	case "ping":
		out.final(wire.AppendResult(nil, id, []byte("{}")))
	case "initialize":
		out.final(wire.AppendError(nil, id, wire.CodeInvalidRequest, "initialize must be sent alone", nil))
	default:
		out.final(wire.AppendError(nil, id, wire.CodeMethodNotFound, "this service does not offer "+bounded(f.Method), nil))
	}
	return nil
}

func bounded(s string) string {
	if len(s) > 80 {
		return strings.ToValidUTF8(s[:80], "") + "..."
	}
	return s
}

// batch answers a JSON-RPC batch with an array (MCP 2025-03-26 only).
func (d *Door) batch(w http.ResponseWriter, r *http.Request, v visitor, s *Session, body []byte, f wire.Frame) {
	if !wire.HasBatch(s.revision) {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "revision "+s.revision+" has no batches; send one message at a time")
		return
	}
	var parts [][]byte
	for _, item := range f.Items {
		one, err := wire.ReadFrameAt(body, item)
		if err != nil {
			fe := &wire.FrameError{Code: wire.CodeInvalidRequest, What: err.Error()}
			errors.As(err, &fe)
			parts = append(parts, wire.AppendError(nil, nil, fe.Code, fe.What, nil))
			continue
		}
		if one.Kind != wire.Request {
			d.accept(s, body, one)
			continue
		}
		kept := &answer{keep: true}
		if done := d.request(r.Context(), v, s, body, one, kept); done != nil {
			done()
		}
		if kept.kept != nil {
			parts = append(parts, kept.kept)
		}
	}
	if len(parts) == 0 {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	writeJSON(w, http.StatusOK, append(append([]byte{'['}, bytes.Join(parts, []byte{','})...), ']'))
}

// stream serves the session's GET stream: what concerns no single request.
func (d *Door) stream(w http.ResponseWriter, r *http.Request, v visitor) {
	if !accepts(r.Header, "text/event-stream") {
		d.fail(w, http.StatusNotAcceptable, nil, wire.CodeInvalidRequest, "the Accept header must allow text/event-stream")
		return
	}
	s := d.session(w, r, v, nil)
	if s == nil {
		return
	}
	ended, ok := s.attach()
	if !ok {
		d.fail(w, http.StatusConflict, nil, wire.CodeInvalidRequest, "this session has an open stream already")
		return
	}
	defer s.detach(ended)
	rc := http.NewResponseController(w)
	if err := rc.SetReadDeadline(time.Time{}); err != nil {
		return // the deadline is for requests; the stream stays open
	}
	streamHeader(w)
	if send(w, rc, []byte(": open\n\n")) != nil {
		return
	}
	beat := time.NewTicker(keepAlive)
	defer beat.Stop()
	listChanged := wire.AppendEvent(nil, "", wire.AppendNotification(nil, "notifications/tools/list_changed", nil))
	for {
		var err error
		select {
		case <-s.changed:
			err = send(w, rc, listChanged)
		case <-beat.C:
			if !time.Now().Before(v.pass.Expires) {
				return // a stream ends with its pass
			}
			err = send(w, rc, []byte(": \n\n"))
		case <-ended:
			return
		case <-d.ended:
			return
		case <-r.Context().Done():
			return
		}
		if err != nil {
			return
		}
	}
}

// fail answers a request with a status and a JSON-RPC error.
func (d *Door) fail(w http.ResponseWriter, status int, id []byte, code int, message string) {
	writeJSON(w, status, wire.AppendError(nil, id, code, message, nil))
}

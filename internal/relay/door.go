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
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/journal"
	"bouncer/internal/origin"
	"bouncer/internal/upstream"
)

// Recorder is the journal as the door needs it. Both methods are safe for
// concurrent use.
type Recorder interface {
	Record(ctx context.Context, e *journal.Entry) error
	Keep(b []byte) string
}

// Options configure a Door; the zero value is the default.
type Options struct {
	Version     string
	Address     string        // base URL under which agents reach the service
	BodyLimit   int           // bytes of one request; 0 means 4 MiB
	CallTimeout time.Duration // for one call; 0 means 5 min
	Guard       *origin.Guard // required
	Log         *slog.Logger  // required
}

// Door serves /mcp and /mcp/{server}, and /sse and /sse/{server} for agents of
// the oldest revision.
type Door struct {
	o        Options
	info     []byte // Bouncer's name and version, raw
	carrier  *Carrier
	world    atomic.Pointer[World]
	sessions *sessions
	ears     ears
	watchers watchers
	swapping sync.Mutex // one world after the other is put in force

	ended chan struct{} // closed when streams have to end
	once  sync.Once
	swept chan struct{}
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
	d := &Door{o: o, ended: make(chan struct{}), swept: make(chan struct{})}
	// A map of strings cannot fail to be written.
	d.info, _ = json.Marshal(map[string]string{"name": "bouncer", "title": "Bouncer", "version": o.Version})
	d.sessions = newSessions(d.left)
	d.carrier = NewCarrier(ctx, j, CarrierOptions{Info: d.info, CallTimeout: o.CallTimeout, Log: o.Log})
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
		// A program that renews its token goes on with its session, so that the token
		// alone may have expired; each request needs a fresh one.
		valid[p.ID] = valid[p.ID] || (!p.Revoked && (p.Renews || now.Before(p.Expires)))
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
		s.box.lists(s.told(shelf.digests()))
	})
	kept := map[*upstream.Connection]bool{}
	connections := map[string]*upstream.Connection{} // by the id of the server as its agents have it
	note := func(s *Server) {
		if s.Keeper != nil {
			kept[s.Keeper], connections[s.ID] = true, s.Keeper
		}
	}
	for _, s := range w.Servers {
		note(s)
		for _, own := range s.Own {
			note(own)
		}
	}
	d.carrier.Retain(func(c *upstream.Connection) bool { return kept[c] })
	d.rewatch(connections)
	d.ears.each(func(e *ear) {
		a := w.Agents[e.agentID]
		if a == nil || !valid[e.passID] {
			e.stop()
			return
		}
		if shelf := w.View(a).shelf(e.scope); shelf != nil {
			e.lists(shelf.digests())
		} else {
			e.stop()
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
	<-d.swept
	d.carrier.Close(ctx)
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
			d.carrier.Sweep(time.Now())
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
	// legacy is set at the addresses of the oldest transport.
	legacy bool
}

// ServeHTTP serves one request to /mcp, /mcp/{server}, /sse or /sse/{server}.
func (d *Door) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !d.o.Guard.Allows(r) {
		d.fail(w, http.StatusForbidden, nil, wire.CodeInvalidRequest, "the Host or Origin header names a place that may not reach this service")
		return
	}
	v, ok := d.admit(w, r)
	if !ok {
		return
	}
	if v.legacy {
		d.serveLegacy(w, r, v)
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
	auth, path := r.Header.Get("Authorization"), r.URL.Path
	if token, rest, ok := InAddress(path); ok {
		path = rest
		if p := v.world.Passes[sha256.Sum256([]byte(token))]; p != nil && p.InAddress {
			v.pass = p
		}
	} else if len(auth) > 7 && strings.EqualFold(auth[:7], "bearer ") && len(auth) < 512 {
		if p := v.world.Passes[sha256.Sum256([]byte(strings.TrimSpace(auth[7:])))]; p != nil && !p.InAddress {
			v.pass = p
		}
	}
	rest, legacy := strings.CutPrefix(path, "/sse")
	if !legacy && path != "/mcp" && !strings.HasPrefix(path, "/mcp/") {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is nothing at this address")
		return v, false
	}
	v.legacy = legacy
	v.scope = strings.Trim(strings.TrimPrefix(rest, "/mcp"), "/")
	now := time.Now()
	if v.pass == nil || v.pass.Revoked || !now.Before(v.pass.Expires) || !v.pass.opens(v.scope) {
		w.Header().Set("WWW-Authenticate", d.challenge(v.scope, auth != ""))
		d.fail(w, http.StatusUnauthorized, nil, wire.CodeInvalidRequest, "show a valid pass: Authorization: Bearer bnp_...; an agent's owner makes one with bouncer agent pass")
		return v, false
	}
	v.agent = v.world.Agents[v.pass.AgentID]
	v.pass.Used.Store(now.UnixMilli())
	if v.agent == nil || v.agent.Paused {
		d.fail(w, http.StatusForbidden, nil, wire.CodeNotAdmitted, "this agent is paused; ask "+v.world.Ask)
		return v, false
	}
	if v.shelf = v.world.View(v.agent).shelf(v.scope); v.shelf == nil {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is no server of that name here")
		return v, false
	}
	return v, true
}

// addressPrefix begins the addresses that hold a pass.
const addressPrefix = "/in/"

// InAddress takes the pass out of an address like /in/{pass}/mcp, for agents that
// can set no header.
func InAddress(path string) (token, rest string, ok bool) {
	after, ok := strings.CutPrefix(path, addressPrefix)
	if !ok {
		return "", path, false
	}
	token, rest, ok = strings.Cut(after, "/")
	return token, "/" + rest, ok
}

// opens reports whether the pass is for an address: "" for all servers, or the
// name of one. A pass for all opens each of them.
func (p *Pass) opens(scope string) bool {
	return p.Audience == "" || p.Audience == "/mcp" || p.Audience == "/mcp/"+scope
}

// challenge tells an agent without a valid pass where it can sign in (RFC 6750;
// RFC 9728, section 5.1).
func (d *Door) challenge(scope string, shown bool) string {
	path := "/mcp"
	if scope != "" && len(scope) <= 32 && strings.Trim(scope, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" {
		path += "/" + scope
	}
	out := `Bearer realm="bouncer", resource_metadata="` + d.o.Address + `/.well-known/oauth-protected-resource` + path + `"`
	if shown {
		out += `, error="invalid_token"`
	}
	return out
}

// session returns the visitor's session, or answers the request with why not.
func (d *Door) session(w http.ResponseWriter, r *http.Request, v visitor, id []byte) *Session {
	sid := r.Header.Get("Mcp-Session-Id")
	if sid == "" {
		d.fail(w, http.StatusBadRequest, id, wire.CodeInvalidRequest, "the Mcp-Session-Id header is missing; open a session with initialize first")
		return nil
	}
	s := d.sessions.get(sid)
	if s == nil || s.passID != v.pass.ID || s.scope != v.scope || s.legacy != nil {
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

// read reads the small body whole before anything else happens: the decision
// needs it, and a half-read body would race with the answer. It answers itself
// when the body cannot be taken.
func (d *Door) read(w http.ResponseWriter, r *http.Request, buf *bytes.Buffer) (wire.Frame, bool) {
	if !jsonBody(r.Header) {
		d.fail(w, http.StatusUnsupportedMediaType, nil, wire.CodeInvalidRequest, "the Content-Type header must be application/json")
		return wire.Frame{}, false
	}
	if r.ContentLength > int64(d.o.BodyLimit) {
		d.tooLarge(w)
		return wire.Frame{}, false
	}
	if r.ContentLength > 0 {
		buf.Grow(int(r.ContentLength) + bytes.MinRead)
	}
	if _, err := buf.ReadFrom(io.LimitReader(r.Body, int64(d.o.BodyLimit)+1)); err != nil {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeParse, "the body broke off")
		return wire.Frame{}, false
	}
	if buf.Len() > d.o.BodyLimit {
		d.tooLarge(w)
		return wire.Frame{}, false
	}
	f, err := wire.ReadFrame(buf.Bytes())
	if err != nil {
		fe := frameError(err, wire.CodeInvalidRequest)
		d.fail(w, http.StatusBadRequest, nil, fe.Code, fe.What)
		return f, false
	}
	return f, true
}

func frameError(err error, code int) *wire.FrameError {
	fe := &wire.FrameError{Code: code, What: err.Error()}
	errors.As(err, &fe)
	return fe
}

func (d *Door) post(w http.ResponseWriter, r *http.Request, v visitor) {
	if !accepts(r.Header, "application/json") && !accepts(r.Header, "text/event-stream") {
		d.fail(w, http.StatusNotAcceptable, nil, wire.CodeInvalidRequest, "the Accept header must allow application/json and text/event-stream")
		return
	}
	buf := bodies.Get().(*bytes.Buffer)
	buf.Reset()
	defer func() {
		if buf.Cap() <= maxPooledBody {
			bodies.Put(buf)
		}
	}()
	f, ok := d.read(w, r, buf)
	if !ok {
		return
	}
	body := buf.Bytes()
	out := &answer{w: w, json: accepts(r.Header, "application/json"), stream: accepts(r.Header, "text/event-stream")}
	named := wire.Stateless(r.Header.Get(wire.HeaderVersion)) // by the header
	var p wire.Params
	var bad error
	switch f.Kind {
	case wire.Request:
		// The body decides the era, the headers are only held against it.
		if p, bad = wire.ReadParams(body, f.Params, f.Method); p.Meta.HasVersion || (bad != nil && named) {
			d.stateless(w, r, v, body, f, p, bad, out)
			return
		}
		if named {
			code, what := wire.CodeInvalidParams, "params._meta names no revision, but the MCP-Protocol-Version header does"
			if f.Method == "initialize" {
				code, what = wire.CodeHeaderMismatch, "the MCP-Protocol-Version header names a revision that has no initialize"
			}
			d.fail(w, http.StatusBadRequest, f.ID.Of(body), code, what)
			return
		}
		if f.Method == "initialize" {
			d.initialize(w, v, body, f)
			return
		}
	case wire.Notification:
		if named || !wire.Member(body, wire.Member(body, f.Params, "_meta"), wire.MetaVersion).Empty() {
			// Ids are not unique without a session, so that none can be cancelled by
			// id: closing the stream is the cancel.
			w.WriteHeader(http.StatusAccepted)
			return
		}
	case wire.Batch:
		for _, item := range f.Items {
			if !wire.Member(body, wire.Member(body, wire.Member(body, item, "params"), "_meta"), wire.MetaVersion).Empty() || named {
				d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "this revision has no batches; send one message at a time")
				return
			}
		}
	}
	s := d.session(w, r, v, f.ID.Of(body))
	if s == nil {
		return
	}
	out.s = s
	c := &caller{visitor: v, s: s, rev: s.revision, caps: s.caps, info: s.info}
	switch f.Kind {
	case wire.Batch:
		d.batch(w, r, c, body, f)
	case wire.Request:
		if bad != nil {
			fe := frameError(bad, wire.CodeInvalidParams)
			out.refuse(f.ID.Of(body), fe.Code, fe.What, nil)
		} else if done := d.request(r.Context(), c, body, f, p, out); done != nil {
			defer done()
		}
		out.end()
	default:
		d.accept(r.Context(), s, body, f)
		w.WriteHeader(http.StatusAccepted)
	}
}

func (d *Door) tooLarge(w http.ResponseWriter) {
	w.Header().Set("Connection", "close")
	d.fail(w, http.StatusRequestEntityTooLarge, nil, wire.CodeInvalidRequest, "the body is larger than the limit (body-limit in Bouncer's settings)")
}

// greet reads an initialize request and prepares the session that it asks for
// (MCP up to 2025-11-25, lifecycle).
func (d *Door) greet(v visitor, body []byte, f wire.Frame) (*Session, *wire.FrameError) {
	var p struct {
		ProtocolVersion          string
		Capabilities, ClientInfo json.RawMessage
	}
	if f.Params.Empty() || json.Unmarshal(f.Params.Of(body), &p) != nil || p.ProtocolVersion == "" {
		return nil, &wire.FrameError{Code: wire.CodeInvalidParams, What: "params.protocolVersion is missing"}
	}
	rev := wire.Negotiate(p.ProtocolVersion)
	s := &Session{scope: v.scope, revision: rev, caps: wire.ReadCaps(p.Capabilities, rev), shown: v.shelf.digests()}
	if n := len(p.ClientInfo); n > 2 && n <= 4<<10 && p.ClientInfo[0] == '{' {
		s.info = bytes.Clone(p.ClientInfo)
	}
	return s, nil
}

// greeting is the result of initialize.
func (d *Door) greeting(v visitor, s *Session) []byte {
	out := map[string]any{"protocolVersion": s.revision, "capabilities": v.shelf.capabilities(s.revision), "serverInfo": json.RawMessage(d.info)}
	if text := v.shelf.instructions(); text != "" {
		out["instructions"] = text
	}
	// Texts and maps of them cannot fail to be written.
	raw, _ := json.Marshal(out)
	return raw
}

const tooManySessions = "too many sessions are open; end some, or try again later"

func (d *Door) initialize(w http.ResponseWriter, v visitor, body []byte, f wire.Frame) {
	id := f.ID.Of(body)
	s, bad := d.greet(v, body, f)
	if bad != nil {
		d.fail(w, http.StatusBadRequest, id, bad.Code, bad.What)
		return
	}
	if !d.sessions.open(s, v.pass, time.Now()) {
		w.Header().Set("Retry-After", "60")
		d.fail(w, http.StatusServiceUnavailable, id, wire.CodeInternal, tooManySessions)
		return
	}
	w.Header()["Mcp-Session-Id"] = []string{s.id}
	_ = writeJSON(w, http.StatusOK, wire.AppendResult(nil, id, d.greeting(v, s)))
}

// accept takes a notification or a response.
func (d *Door) accept(ctx context.Context, s *Session, body []byte, f wire.Frame) {
	if f.Kind == wire.Response {
		s.answered(body, f)
		return
	}
	switch f.Method {
	case "notifications/cancelled":
		if f.Params.Empty() {
			return
		}
		if id := wire.Member(body, f.Params, "requestId"); !id.Empty() {
			s.cancel(string(id.Of(body)), errCanceled)
		}
	case "notifications/progress":
		if f.Params.Empty() {
			return
		}
		// Of a request that a server sent to the agent.
		if l := s.asker(wire.Member(body, f.Params, "progressToken").Of(body)); l != nil {
			d.carrier.Tell(ctx, l, f.Method, f.Params.Of(body))
		}
	case "notifications/roots/list_changed":
		// Shared links belong to no agent, and ask for roots anew when they need
		// them.
		for _, l := range d.carrier.Links(s) {
			d.carrier.Tell(ctx, l, f.Method, nil)
		}
	}
}

// caller is who asks, and how the answer has to look.
type caller struct {
	visitor
	s     *Session // nil in the stateless era
	rev   string
	caps  wire.Caps
	info  []byte
	level string // of log messages, in the stateless era
}

func (c *caller) stateless() bool { return c.s == nil }

func (c *caller) logLevel() string {
	if c.s != nil {
		return c.s.logLevel()
	}
	return c.level
}

// request answers one request through out. The returned function, if any, is
// to be called after out has been flushed.
func (d *Door) request(ctx context.Context, c *caller, body []byte, f wire.Frame, p wire.Params, out *answer) func() {
	id := f.ID.Of(body)
	switch f.Method {
	case "tools/call", "prompts/get", "resources/read", "completion/complete":
		return d.carrier.Carry(ctx, c, body, f, p, out)
	case "tasks/get", "tasks/result", "tasks/cancel", "tasks/update":
		if c.stateless() && !c.caps.Tasks {
			out.refuse(id, wire.CodeNoCapability, "this request does not declare the extension for tasks", map[string]any{"requiredCapabilities": json.RawMessage(c.taskNeed())})
			return nil
		}
		// A result is fetched in sessions only, and input given without them.
		if own := f.Method == "tasks/update"; f.Method == "tasks/get" || f.Method == "tasks/cancel" || own == c.stateless() {
			return d.carrier.Carry(ctx, c, body, f, p, out)
		}
	case "tools/list", "prompts/list", "resources/list", "resources/templates/list":
		d.list(c, body, f, out)
		return nil
	}
	if c.stateless() {
		// The other methods have no place in this era, or are answered elsewhere.
		out.refuse(id, wire.CodeMethodNotFound, "this service does not offer "+bounded(f.Method), nil)
		return nil
	}
	switch f.Method {
	case "ping":
		out.final(wire.AppendResult(nil, id, []byte("{}")))
	case "logging/setLevel":
		level, _ := wire.StringAt(body, wire.Member(body, f.Params, "level"))
		if wire.Level(level) < 0 {
			out.refuse(id, wire.CodeInvalidParams, "params.level must be one of "+strings.Join(wire.Levels, ", "), nil)
			return nil
		}
		c.s.setLevel(level)
		out.final(wire.AppendResult(nil, id, []byte("{}")))
	case "resources/subscribe", "resources/unsubscribe":
		d.subscribe(ctx, c, id, p.Subject, f.Method == "resources/subscribe", out)
	case "initialize":
		out.refuse(id, wire.CodeInvalidRequest, "initialize must be sent alone, once", nil)
	default:
		out.refuse(id, wire.CodeMethodNotFound, "this service does not offer "+bounded(f.Method), nil)
	}
	return nil
}

// list answers a list request from memory.
func (d *Door) list(c *caller, body []byte, f wire.Frame, out *answer) {
	id := f.ID.Of(body)
	kind := tools.Kind(strings.TrimSuffix(f.Method, "/list"))
	if f.Method == tools.Templates.Method() {
		kind = tools.Templates
	}
	cursor := ""
	if at := wire.Member(body, f.Params, "cursor"); !at.Empty() {
		text, ok := wire.StringAt(body, at)
		if cursor = text; !ok || text == "" {
			cursor = "?"
		}
	}
	page, ok := c.shelf.lists[kind].page(cursor, c.stateless())
	if !ok {
		out.refuse(id, wire.CodeInvalidParams, "params.cursor is none of this list, or the list has changed; begin again without one", nil)
		return
	}
	out.final(wire.AppendResult(nil, id, page))
}

func bounded(s string) string {
	if len(s) > 80 {
		return strings.ToValidUTF8(s[:80], "") + "..."
	}
	return s
}

// batch answers a JSON-RPC batch with an array (MCP 2025-03-26 only).
func (d *Door) batch(w http.ResponseWriter, r *http.Request, c *caller, body []byte, f wire.Frame) {
	s := c.s
	if !wire.HasBatch(s.revision) {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "revision "+s.revision+" has no batches; send one message at a time")
		return
	}
	var parts [][]byte
	for _, item := range f.Items {
		one, err := wire.ReadFrameAt(body, item)
		if err != nil {
			fe := frameError(err, wire.CodeInvalidRequest)
			parts = append(parts, wire.AppendError(nil, nil, fe.Code, fe.What, nil))
			continue
		}
		if one.Kind != wire.Request {
			d.accept(r.Context(), s, body, one)
			continue
		}
		kept := &answer{keep: true}
		if p, err := wire.ReadParams(body, one.Params, one.Method); err != nil {
			fe := frameError(err, wire.CodeInvalidParams)
			kept.refuse(one.ID.Of(body), fe.Code, fe.What, nil)
		} else if done := d.request(r.Context(), c, body, one, p, kept); done != nil {
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
	_ = writeJSON(w, http.StatusOK, append(append([]byte{'['}, bytes.Join(parts, []byte{','})...), ']'))
}

// stream serves the session's GET stream: what concerns no single request. With
// a Last-Event-ID it takes up the stream of a request that was lost.
func (d *Door) stream(w http.ResponseWriter, r *http.Request, v visitor) {
	if !accepts(r.Header, "text/event-stream") {
		d.fail(w, http.StatusNotAcceptable, nil, wire.CodeInvalidRequest, "the Accept header must allow text/event-stream")
		return
	}
	if wire.Stateless(r.Header.Get(wire.HeaderVersion)) {
		w.Header().Set("Allow", "POST")
		d.fail(w, http.StatusMethodNotAllowed, nil, wire.CodeInvalidRequest, "this revision listens with subscriptions/listen")
		return
	}
	s := d.session(w, r, v, nil)
	if s == nil {
		return
	}
	if last := r.Header.Get("Last-Event-ID"); last != "" && wire.HasEventIDs(s.revision) {
		d.resume(w, r, s, last)
		return
	}
	ended, ok := s.attach()
	if !ok {
		d.fail(w, http.StatusConflict, nil, wire.CodeInvalidRequest, "this session has an open stream already")
		return
	}
	defer s.detach(ended)
	events, err := OpenEventStream(w)
	if err != nil || events.Send([]byte(": open\n\n")) != nil {
		return
	}
	events.Serve(r.Context(), Feed{Next: s.box.feed("", nil), Expires: v.pass.Expires, Gone: ended, Ended: d.ended})
}

// resume plays the rest of a stream, and what is still added to it.
func (d *Door) resume(w http.ResponseWriter, r *http.Request, s *Session, last string) {
	no, index := 0, 0
	before, after, ok := strings.Cut(last, "-")
	no, err1 := strconv.Atoi(before)
	index, err2 := strconv.Atoi(after)
	t := s.tape(no)
	if !ok || err1 != nil || err2 != nil || t == nil {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "the Last-Event-ID header names no event that is still kept")
		return
	}
	if _, _, _, ok := t.after(index); !ok {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "the events after the Last-Event-ID are no longer kept")
		return
	}
	events, err := OpenEventStream(w)
	if err != nil {
		return
	}
	events.Serve(r.Context(), Feed{Ended: d.ended, Next: func() ([][]byte, bool, <-chan struct{}) {
		rest, done, more, ok := t.after(index)
		index += len(rest)
		return rest, done || !ok, more // what is gone cannot be caught up with
	}})
}

// fail answers a request with a status and a JSON-RPC error.
func (d *Door) fail(w http.ResponseWriter, status int, id []byte, code int, message string) {
	_ = writeJSON(w, status, wire.AppendError(nil, id, code, message, nil))
}

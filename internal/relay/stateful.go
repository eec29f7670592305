package relay

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/stream"
	"bouncer/internal/snapshot"
)

// post takes messages of an agent, and answers those of the initialize era.
func (d *Gateway) post(w http.ResponseWriter, r *http.Request, v carry.Principal) {
	if !stream.Accepts(r.Header, "application/json") && !stream.Accepts(r.Header, "text/event-stream") {
		what := "the Accept header must allow application/json and text/event-stream"
		d.fail(w, http.StatusNotAcceptable, nil, wire.CodeInvalidRequest, what)
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
	out := &stream.Reply{
		Writer: w,
		JSON:   stream.Accepts(r.Header, "application/json"),
		Stream: stream.Accepts(r.Header, "text/event-stream"),
	}
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
			code, what := namedInHeader(f.Method)
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
		if named || anyNames(body, f.Items) {
			d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "this revision has no batches; send one message at a time")
			return
		}
	}
	s := d.session(w, r, v, f.ID.Of(body))
	if s == nil {
		return
	}
	out.Session, out.Request = s, f.ID.Of(body)
	v = v.As(s.Info, s.Revision)
	s.Noted(v.How)
	c := &carry.Caller{Principal: v, Session: s, Revision: s.Revision, Caps: s.Caps, Info: s.Info}
	switch f.Kind {
	case wire.Batch:
		d.batch(w, r, c, body, f)
	case wire.Request:
		if bad != nil {
			fe := frameError(bad, wire.CodeInvalidParams)
			out.Refuse(f.ID.Of(body), fe.Code, fe.What, nil)
		} else if done := d.request(r.Context(), c, body, f, p, out); done != nil {
			defer done()
		}
		out.End()
	default:
		d.accept(r.Context(), s, body, f)
		w.WriteHeader(http.StatusAccepted)
	}
}

// namedInHeader is what is wrong with a request whose header names a revision of the
// stateless era, and whose body does not.
func namedInHeader(method string) (code int, what string) {
	if method == "initialize" {
		return wire.CodeHeaderMismatch, "the MCP-Protocol-Version header names a revision that has no initialize"
	}
	return wire.CodeInvalidParams, "params._meta names no revision, but the MCP-Protocol-Version header does"
}

// anyNames reports whether a message of a batch names its revision itself, as those of
// the stateless era do.
func anyNames(body []byte, items []wire.Span) bool {
	for _, item := range items {
		if !wire.Member(body, wire.Member(body, wire.Member(body, item, "params"), "_meta"), wire.MetaVersion).Empty() {
			return true
		}
	}
	return false
}

// greet reads an initialize request and prepares the session that it asks for
// (MCP up to 2025-11-25, lifecycle).
func (d *Gateway) greet(v carry.Principal, body []byte, f wire.Frame) (*session.Session, *wire.FrameError) {
	var p struct {
		ProtocolVersion          string
		Capabilities, ClientInfo json.RawMessage
	}
	if f.Params.Empty() || json.Unmarshal(f.Params.Of(body), &p) != nil || p.ProtocolVersion == "" {
		return nil, &wire.FrameError{Code: wire.CodeInvalidParams, What: "params.protocolVersion is missing"}
	}
	rev := wire.Negotiate(p.ProtocolVersion)
	s := &session.Session{Scope: v.Scope, Revision: rev, Caps: wire.ReadCaps(p.Capabilities, rev)}
	if n := len(p.ClientInfo); n > 2 && n <= 4<<10 && p.ClientInfo[0] == '{' {
		s.Info = bytes.Clone(p.ClientInfo)
	}
	v = v.As(s.Info, rev)
	s.Noted(v.How)
	s.Shown = v.Catalog.Digests()
	return s, nil
}

// greeting is the result of initialize.
func (d *Gateway) greeting(v carry.Principal, s *session.Session) []byte {
	v = v.As(s.Info, s.Revision)
	out := map[string]any{
		"protocolVersion": s.Revision,
		"capabilities":    v.Catalog.Capabilities(s.Revision),
		"serverInfo":      json.RawMessage(d.info),
	}
	if text := v.Catalog.Instructions(); text != "" {
		out["instructions"] = text
	}
	// Texts and maps of them cannot fail to be written.
	raw, _ := json.Marshal(out)
	return raw
}

const tooManySessions = "; end some, or try again later"

func (d *Gateway) initialize(w http.ResponseWriter, v carry.Principal, body []byte, f wire.Frame) {
	id := f.ID.Of(body)
	s, bad := d.greet(v, body, f)
	if bad != nil {
		d.fail(w, http.StatusBadRequest, id, bad.Code, bad.What)
		return
	}
	s.Line = lineOf(w)
	if err := d.sessions.Open(s, v.Pass, v.Agent, time.Now()); err != nil {
		w.Header().Set("Retry-After", "60")
		d.fail(w, http.StatusServiceUnavailable, id, wire.CodeInternal, err.Error()+tooManySessions)
		return
	}
	d.Contacts.Met(time.Now(), v.Agent.ID, v.Pass.ID, s.Revision, s.Info)
	w.Header()["Mcp-Session-Id"] = []string{d.seal.ID(s)}
	_ = stream.WriteJSON(w, http.StatusOK, wire.AppendResult(nil, id, d.greeting(v, s)))
}

// accept takes a notification or a response.
func (d *Gateway) accept(ctx context.Context, s *session.Session, body []byte, f wire.Frame) {
	if f.Kind == wire.Response {
		s.Answered(body, f)
		return
	}
	switch f.Method {
	case "notifications/cancelled":
		if f.Params.Empty() {
			return
		}
		if id := wire.Member(body, f.Params, "requestId"); !id.Empty() {
			s.Cancel(string(id.Of(body)), session.ErrCanceled)
		}
	case "notifications/progress":
		if f.Params.Empty() {
			return
		}
		// Of a request that a server sent to the agent.
		if l := s.LinkOf(wire.Member(body, f.Params, "progressToken").Of(body)); l != nil {
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

// request answers one request through out. The returned function, if any, is
// to be called after out has been flushed.
func (d *Gateway) request(ctx context.Context, c *carry.Caller, body []byte, f wire.Frame, p wire.Params, out *stream.Reply) func() {
	id := f.ID.Of(body)
	switch f.Method {
	case "tools/call", "prompts/get", "resources/read", "completion/complete":
		if c.Catalog.Finder && d.o.Finder != nil && f.Method == "tools/call" {
			var done bool
			if body, f, p, done = (searches{d}).finding(ctx, c, body, f, p, out); done {
				return nil
			}
		}
		return d.carrier.Carry(ctx, c, body, f, p, out)
	case "tasks/get", "tasks/result", "tasks/cancel", "tasks/update":
		if c.Stateless() && !c.Caps.Tasks {
			out.Refuse(
				id,
				wire.CodeNoCapability,
				"this request does not declare the extension for tasks",
				map[string]any{"requiredCapabilities": json.RawMessage(c.TaskNeed())},
			)
			return nil
		}
		// A result is fetched in sessions only, and input given without them.
		if own := f.Method == "tasks/update"; f.Method == "tasks/get" || f.Method == "tasks/cancel" || own == c.Stateless() {
			return d.carrier.Carry(ctx, c, body, f, p, out)
		}
	case "tools/list", "prompts/list", "resources/list", "resources/templates/list":
		d.list(c, body, f, out)
		return nil
	}
	if c.Stateless() {
		// The other methods have no place in this era, or are answered elsewhere.
		out.Refuse(id, wire.CodeMethodNotFound, "this service does not offer "+snapshot.Clip(f.Method), nil)
		return nil
	}
	switch f.Method {
	case "ping":
		out.Result(wire.AppendResult(nil, id, []byte("{}")))
	case "logging/setLevel":
		level, _ := wire.StringAt(body, wire.Member(body, f.Params, "level"))
		if wire.Level(level) < 0 {
			out.Refuse(id, wire.CodeInvalidParams, "params.level must be one of "+strings.Join(wire.Levels, ", "), nil)
			return nil
		}
		c.Session.SetLevel(level)
		out.Result(wire.AppendResult(nil, id, []byte("{}")))
	case "resources/subscribe", "resources/unsubscribe":
		d.subscribe(ctx, c, id, p.Subject, f.Method == "resources/subscribe", out)
	case "initialize":
		out.Refuse(id, wire.CodeInvalidRequest, "initialize must be sent alone, once", nil)
	default:
		out.Refuse(id, wire.CodeMethodNotFound, "this service does not offer "+snapshot.Clip(f.Method), nil)
	}
	return nil
}

// list answers a list request from memory.
func (d *Gateway) list(c *carry.Caller, body []byte, f wire.Frame, out *stream.Reply) {
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
	page, ok := c.Catalog.Page(kind, cursor, c.Stateless())
	if !ok {
		out.Refuse(id, wire.CodeInvalidParams, "params.cursor is none of this list, or the list has changed; begin again without one", nil)
		return
	}
	if kind == tools.Tools {
		n, list := c.Catalog.Count(kind)
		d.Contacts.Fetched(time.Now(), c.Agent.ID, c.Scope, n, list)
		if c.Session == nil {
			d.Contacts.Met(time.Now(), c.Agent.ID, c.Pass.ID, c.Revision, c.Info)
		}
	}
	out.Result(wire.AppendResult(nil, id, page))
}

// batch answers a JSON-RPC batch with an array (MCP 2025-03-26 only).
func (d *Gateway) batch(w http.ResponseWriter, r *http.Request, c *carry.Caller, body []byte, f wire.Frame) {
	s := c.Session
	if !wire.HasBatch(s.Revision) {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "revision "+s.Revision+" has no batches; send one message at a time")
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
		kept := &stream.Reply{Kept: true}
		if p, err := wire.ReadParams(body, one.Params, one.Method); err != nil {
			fe := frameError(err, wire.CodeInvalidParams)
			kept.Refuse(one.ID.Of(body), fe.Code, fe.What, nil)
		} else if done := d.request(r.Context(), c, body, one, p, kept); done != nil {
			done()
		}
		if kept.Frame != nil {
			parts = append(parts, kept.Frame)
		}
	}
	if len(parts) == 0 {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	_ = stream.WriteJSON(w, http.StatusOK, append(append([]byte{'['}, bytes.Join(parts, []byte{','})...), ']'))
}

// stream serves the session's GET stream: what concerns no single request. With
// a Last-Event-ID it takes up the stream of a request that was lost.
func (d *Gateway) stream(w http.ResponseWriter, r *http.Request, v carry.Principal) {
	if !stream.Accepts(r.Header, "text/event-stream") {
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
	if last := r.Header.Get("Last-Event-ID"); last != "" && wire.HasEventIDs(s.Revision) {
		d.resume(w, r, s, last)
		return
	}
	ended, ok := s.Attach()
	if !ok {
		d.fail(w, http.StatusConflict, nil, wire.CodeInvalidRequest, "this session has an open stream already")
		return
	}
	defer s.Detach(ended)
	events, err := stream.Open(w)
	if err != nil || events.Send([]byte(": open\n\n")) != nil {
		return
	}
	events.Serve(r.Context(), stream.Feed{Next: s.Outbox.Feed("", nil), Expires: v.Pass.Expires, Gone: ended, Ended: d.ended})
}

// readEventID reads what stands in the id of an event: the number of its stream, that of the event, and
// the raw id of the request that the stream answers.
func readEventID(id string) (no, index int, request []byte, ok bool) {
	parts := strings.Split(id, "-") // the last part may hold some itself
	if len(parts) < 2 {
		return 0, 0, nil, false
	}
	no, err1 := strconv.Atoi(parts[0])
	index, err2 := strconv.Atoi(parts[1])
	request, err3 := base64.RawURLEncoding.DecodeString(strings.Join(parts[2:], "-"))
	return no, index, request, err1 == nil && err2 == nil && err3 == nil
}

// lost answers a request whose stream was begun before the service was started anew, or at another node:
// what became of it is not known here, and it is not sent once more.
func lost(w http.ResponseWriter, request []byte) {
	frame := wire.AppendError(nil, request, wire.CodeInternal, "the connection that this call came over is gone: it was at another node, "+
		"or Bouncer was started anew; whether the tool ran is not known here, and nothing was sent again; look at the server before "+
		"you repeat the call", map[string]string{"reason": "outcome-unknown"})
	if f, err := wire.ReadFrame(frame); err != nil || f.Kind != wire.Response || !bytes.Equal(f.ID.Of(frame), request) {
		w.WriteHeader(http.StatusBadRequest) // nobody was given an event of such an id
		return
	}
	events, err := stream.Open(w)
	if err == nil {
		_ = events.Send(wire.AppendEvent(nil, "", frame)) // the agent may have gone
	}
}

// resume plays the rest of a stream, and what is still added to it.
func (d *Gateway) resume(w http.ResponseWriter, r *http.Request, s *session.Session, last string) {
	no, index, request, ok := readEventID(last)
	t := s.Replay(no)
	if ok && t == nil && !s.Numbered(no) && len(request) > 0 {
		lost(w, request)
		return
	}
	if !ok || t == nil {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "the Last-Event-ID header names no event that is still kept")
		return
	}
	if _, _, _, ok := t.After(index); !ok {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeInvalidRequest, "the events after the Last-Event-ID are no longer kept")
		return
	}
	events, err := stream.Open(w)
	if err != nil {
		return
	}
	events.Serve(r.Context(), stream.Feed{Ended: d.ended, Next: func() ([][]byte, bool, <-chan struct{}) {
		rest, done, more, ok := t.After(index)
		index += len(rest)
		return rest, done || !ok, more // what is gone cannot be caught up with
	}})
}

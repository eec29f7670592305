package relay

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/stream"
	"bouncer/internal/snapshot"
)

// envelope looks for what is wrong with what every request of the stateless era says
// about itself, in the order that the revision asks for. sent is the revision that the
// header names; an empty what is for nothing wrong.
func envelope(sent string, body []byte, m wire.Meta, bad error) (code int, what string, data any) {
	switch {
	case bad != nil && !m.HasVersion:
		fe := frameError(bad, wire.CodeInvalidParams)
		return fe.Code, fe.What, nil
	case m.Version == "":
		return wire.CodeInvalidParams, "params._meta[\"" + wire.MetaVersion + "\"] must be a revision", nil
	case m.Caps.Empty() || body[m.Caps.Start] != '{':
		return wire.CodeInvalidParams, "params._meta[\"" + wire.MetaCaps + "\"] is missing or no object", nil
	case !m.Info.Empty() && body[m.Info.Start] != '{':
		return wire.CodeInvalidParams, "params._meta[\"" + wire.MetaInfo + "\"] must be an object", nil
	case sent != "" && sent != m.Version:
		return wire.CodeHeaderMismatch, "the MCP-Protocol-Version header and params._meta name different revisions", nil
	case !wire.SpeaksStateless(m.Version):
		supported := map[string]any{"supported": []string{wire.NewestStateless}, "requested": snapshot.Clip(m.Version)}
		return wire.CodeNoRevision, "this revision is not spoken here", supported
	}
	return 0, "", nil
}

// stateless answers a request of the stateless era (MCP 2026-07-28). What is
// wrong with its envelope and its headers is found in the order that the
// revision asks for.
func (d *Gateway) stateless(
	w http.ResponseWriter,
	r *http.Request,
	v carry.Principal,
	body []byte,
	f wire.Frame,
	p wire.Params,
	bad error,
	out *stream.Reply,
) {
	out.Stateless = true
	id := f.ID.Of(body)
	fail := func(code int, what string, data any) {
		_ = stream.WriteJSON(w, http.StatusBadRequest, wire.AppendError(nil, id, code, what, data))
	}
	if code, what, data := envelope(r.Header.Get(wire.HeaderVersion), body, p.Meta, bad); what != "" {
		fail(code, what, data)
		return
	}
	m := p.Meta
	if !offered[f.Method] {
		_ = stream.WriteJSON(
			w,
			http.StatusNotFound,
			wire.AppendError(
				nil,
				id,
				wire.CodeMethodNotFound,
				"this revision does not have, or this service does not offer, "+snapshot.Clip(f.Method),
				nil,
			),
		)
		return
	}
	if what := headers(r.Header, f.Method, p.Subject); what != "" {
		fail(wire.CodeHeaderMismatch, what, nil)
		return
	}
	var info []byte
	if n := m.Info.End - m.Info.Start; n > 2 && n <= 4<<10 {
		info = m.Info.Of(body)
	}
	v = v.As(info, m.Version)
	c := &carry.Caller{Principal: v, Info: info, Revision: m.Version, Caps: wire.ReadCaps(m.Caps.Of(body), m.Version), Level: m.Level}
	if bad != nil {
		fe := frameError(bad, wire.CodeInvalidParams)
		out.Refuse(id, fe.Code, fe.What, nil)
		out.End()
		return
	}
	if f.Method == "tools/call" && r.Header.Get(wire.HeaderBridge) == "" {
		if t := v.Catalog.Find(tools.Tools, p.Subject); t != nil {
			for _, mirror := range t.Mirrors {
				if err := mirror.Check(r.Header.Values(wire.HeaderParam+mirror.Header), p.Arguments.Of(body)); err != nil {
					fail(wire.CodeHeaderMismatch, err.Error(), nil)
					return
				}
			}
		}
	}
	switch f.Method {
	case "server/discover":
		d.Contacts.Met(time.Now(), v.Agent.ID, v.Pass.ID, m.Version, c.Info)
		out.Result(wire.AppendResult(nil, id, d.discovery(c)))
	case "subscriptions/listen":
		d.listen(w, r, c, body, f, out)
		return
	default:
		if done := d.request(r.Context(), c, body, f, p, out); done != nil {
			defer done()
		}
	}
	out.End()
}

// offered are the methods of the stateless era that are served here.
var offered = map[string]bool{
	"server/discover": true, "subscriptions/listen": true, "completion/complete": true,
	"tools/list": true, "tools/call": true, "prompts/list": true, "prompts/get": true,
	"resources/list": true, "resources/templates/list": true, "resources/read": true,
	"tasks/get": true, "tasks/update": true, "tasks/cancel": true,
}

// headers holds the mirrored headers against the body; it returns what is wrong.
func headers(h http.Header, method, subject string) string {
	if h.Get(wire.HeaderVersion) == "" {
		return "the MCP-Protocol-Version header is missing"
	}
	for _, row := range [...]struct{ name, want string }{{wire.HeaderMethod, method}, {wire.HeaderName, subject}} {
		if row.name == wire.HeaderName && !namesSubject(method) {
			continue
		}
		values := h.Values(row.name)
		if len(values) != 1 {
			return "the " + row.name + " header must be sent once"
		}
		got, err := wire.ReadHeaderValue(values[0])
		if err != nil {
			return "the " + row.name + " header " + err.Error()
		}
		if got != row.want {
			return fmt.Sprintf("the %s header says %q, the body %q", row.name, snapshot.Clip(got), snapshot.Clip(row.want))
		}
	}
	return ""
}

func namesSubject(method string) bool {
	switch method {
	case "tools/call", "prompts/get", "resources/read", "tasks/get", "tasks/update", "tasks/cancel":
		return true
	}
	return false
}

// discovery is the result of server/discover.
func (d *Gateway) discovery(c *carry.Caller) []byte {
	out := map[string]any{
		"resultType": "complete", "supportedVersions": []string{wire.NewestStateless}, "capabilities": c.Catalog.Capabilities(c.Revision),
		"ttlMs": 0, "cacheScope": "private", "_meta": map[string]any{wire.MetaServer: json.RawMessage(d.info)},
	}
	if text := c.Catalog.Instructions(); text != "" {
		out["instructions"] = text
	}
	// Texts and maps of them cannot fail to be written.
	raw, _ := json.Marshal(out)
	return raw
}

// subscriber is one open subscriptions/listen.
type subscriber struct {
	agentID, passID, scope string
	how                    rules.Circumstances
	holder                 gate.Holder
	want                   [3]bool // lists whose changes were asked for
	box                    session.Outbox
	gone                   chan struct{} // closed when the pass or the address is gone
	once                   sync.Once

	mu    sync.Mutex // guards what follows
	shown [3]string
}

func (e *subscriber) stop() { e.once.Do(func() { close(e.gone) }) }

// lists notes the digests of the lists, and tells of those that changed and were
// asked for.
func (e *subscriber) lists(now [3]string) {
	e.mu.Lock()
	var changed [3]bool
	for i := range now {
		changed[i] = e.want[i] && e.shown[i] != now[i]
	}
	e.shown = now
	e.mu.Unlock()
	e.box.ListsChanged(changed)
}

// subscribers are the open listens, bounded for each agent.
type subscribers struct {
	gate *gate.Gate

	mu  sync.Mutex // guards all
	all map[*subscriber]struct{}
}

var subscriberLimits = gate.Limits{Agent: 1024, Person: 2048, All: 20_000}

// add adds one. The error is a *gate.FullError.
func (s *subscribers) add(e *subscriber) error {
	if err := s.gate.Take(e.holder, 1); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil {
		s.all = map[*subscriber]struct{}{}
	}
	s.all[e] = struct{}{}
	return nil
}

func (s *subscribers) remove(e *subscriber) {
	s.gate.Give(e.holder, 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, e)
}

func (s *subscribers) each(fn func(*subscriber)) {
	s.mu.Lock()
	list := make([]*subscriber, 0, len(s.all))
	for e := range s.all {
		list = append(list, e)
	}
	s.mu.Unlock()
	for _, e := range list {
		fn(e)
	}
}

// listening is what a subscriptions/listen wants to be told.
type listening struct {
	ToolsListChanged, PromptsListChanged, ResourcesListChanged bool
	ResourceSubscriptions                                      []string
}

// readListening reads the parameters of a subscriptions/listen, or says what is wrong
// with them.
func readListening(params wire.Span, body []byte) (n *listening, wrong string) {
	var p struct{ Notifications *listening }
	if params.Empty() || json.Unmarshal(params.Of(body), &p) != nil || p.Notifications == nil {
		return nil, "params.notifications must say what to listen to"
	}
	if len(p.Notifications.ResourceSubscriptions) > session.MaxSubscriptions {
		return nil, fmt.Sprintf("params.notifications.resourceSubscriptions has more than %d entries", session.MaxSubscriptions)
	}
	return p.Notifications, ""
}

// newSubscriber makes the stream's end in Bouncer: of the lists that are wanted, those
// that the agent has at all.
func newSubscriber(c *carry.Caller, n *listening) *subscriber {
	caps := c.Catalog.Capabilities(c.Revision)
	e := &subscriber{
		agentID: c.Agent.ID,
		passID:  c.Pass.ID,
		scope:   c.Scope,
		how:     c.How,
		gone:    make(chan struct{}),
		shown:   c.Catalog.Digests(),
	}
	e.box.Wake = make(chan struct{}, 1)
	e.want = [3]bool{
		n.ToolsListChanged && caps["tools"] != nil,
		n.PromptsListChanged && caps["prompts"] != nil,
		n.ResourcesListChanged && caps["resources"] != nil,
	}
	e.holder = gate.Holder{Agent: c.Agent.ID, Person: c.Agent.Owner}
	return e
}

// honoured is what the subscriber is told that it will be told; nil for nothing.
func (e *subscriber) honoured(uris []string) map[string]any {
	out := map[string]any{}
	for i, name := range []string{"toolsListChanged", "promptsListChanged", "resourcesListChanged"} {
		if e.want[i] {
			out[name] = true
		}
	}
	if len(uris) > 0 {
		out["resourceSubscriptions"] = uris
	}
	return out
}

// listen serves subscriptions/listen: first what is honoured, then nothing but
// that.
func (d *Gateway) listen(w http.ResponseWriter, r *http.Request, c *carry.Caller, body []byte, f wire.Frame, out *stream.Reply) {
	id := f.ID.Of(body)
	n, wrong := readListening(f.Params, body)
	if wrong != "" {
		out.Refuse(id, wire.CodeInvalidParams, wrong, nil)
		return
	}
	if !out.Stream {
		_ = stream.WriteJSON(
			w,
			http.StatusNotAcceptable,
			wire.AppendError(nil, id, wire.CodeInvalidRequest, "the Accept header must allow text/event-stream", nil),
		)
		return
	}
	e := newSubscriber(c, n)
	if err := d.subscribers.add(e); err != nil {
		out.Refuse(id, wire.CodeInternal, err.Error()+"; close some first", nil)
		return
	}
	defer d.subscribers.remove(e)
	ctx, stop := context.WithCancel(r.Context())
	defer stop()
	var uris []string
	defer func() {
		for _, uri := range uris {
			d.unwatch(&e.box, uri)
		}
	}()
	for _, uri := range n.ResourceSubscriptions {
		if t, why := c.Snapshot.Resource(c.Agent, c.How, c.Catalog, uri); why == "" && d.watch(ctx, c, &e.box, uri, t) == nil {
			uris = append(uris, uri)
		}
	}
	honoured := e.honoured(uris)
	meta := append(append([]byte(`{"`+wire.MetaSubscription+`":`), id...), '}')
	granted, err := json.Marshal(honoured)
	if err != nil {
		out.Refuse(id, wire.CodeInternal, "the answer could not be written", nil)
		return
	}
	end := wire.AppendResult(nil, id, append(append([]byte(`{"resultType":"complete","_meta":`), meta...), '}'))
	events, err := stream.Open(w)
	if err != nil {
		return
	}
	tell := func(frame []byte) bool { return events.Send(wire.AppendEvent(nil, "", frame)) == nil }
	if !tell(
		wire.AppendNotification(
			nil,
			"notifications/subscriptions/acknowledged",
			session.Params(append([]byte(`"notifications":`), granted...), meta),
		),
	) {
		return
	}
	if len(honoured) == 0 {
		tell(end)
		return
	}
	// A change between the reading of the reach and now must not be missed.
	if now := d.Snapshot(); now.Agents[c.Agent.ID] != nil {
		if catalog := now.ReachOf(now.Agents[c.Agent.ID], c.How).Catalog(c.Scope); catalog != nil {
			e.lists(catalog.Digests())
		}
	}
	events.Serve(
		ctx,
		stream.Feed{
			Next:     e.box.Feed("", meta),
			Expires:  c.Pass.Expires,
			Gone:     e.gone,
			Ended:    d.ended,
			Farewell: wire.AppendEvent(nil, "", end),
		},
	)
}

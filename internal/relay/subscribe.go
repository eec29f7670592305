package relay

import (
	"context"
	"errors"
	"maps"
	"sync"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/stream"
	"bouncer/internal/snapshot"
	"bouncer/internal/upstream"
)

// subscriptions are those who want to hear of changes of resources.
type subscriptions struct {
	mu  sync.Mutex                                  // guards the map; never held while a server is asked
	all map[resourceKey]map[*session.Outbox]string  // the agent's URI
	own map[*session.Outbox]map[string]subscription // by the agent's URI
}

type resourceKey struct{ server, uri string }

type subscription struct {
	key            resourceKey
	connection     *upstream.Connection
	agentID, scope string // who subscribed, and at which address
	how            rules.Circumstances
}

// watch subscribes a mailbox of a caller to a resource.
func (d *Gateway) watch(ctx context.Context, c *carry.Caller, m *session.Outbox, uri string, t *snapshot.Target) error {
	k := t.Server.Connection
	if k == nil {
		return errors.New("there is no way to the server now")
	}
	key := resourceKey{t.Server.ID, t.Tool.Name}
	w := &d.subscriptions
	w.mu.Lock()
	if _, twice := w.own[m][uri]; twice {
		w.mu.Unlock()
		return nil
	}
	if len(w.own[m]) >= session.MaxSubscriptions {
		w.mu.Unlock()
		return errors.New("too many resources are subscribed to")
	}
	if w.all == nil {
		w.all, w.own = map[resourceKey]map[*session.Outbox]string{}, map[*session.Outbox]map[string]subscription{}
	}
	if w.all[key] == nil {
		w.all[key] = map[*session.Outbox]string{}
	}
	if w.own[m] == nil {
		w.own[m] = map[string]subscription{}
	}
	w.all[key][m], w.own[m][uri] = uri, subscription{key, k, c.Agent.ID, c.Scope, c.How}
	w.mu.Unlock()
	err := k.Subscribe(ctx, t.Tool.Name, true)
	if err != nil {
		d.forget(m, uri)
	}
	return err
}

// forget takes a subscription out and returns what it was.
func (d *Gateway) forget(m *session.Outbox, uri string) (subscription, bool) {
	w := &d.subscriptions
	w.mu.Lock()
	defer w.mu.Unlock()
	was, ok := w.own[m][uri]
	if !ok {
		return was, false
	}
	if delete(w.own[m], uri); len(w.own[m]) == 0 {
		delete(w.own, m)
	}
	if delete(w.all[was.key], m); len(w.all[was.key]) == 0 {
		delete(w.all, was.key)
	}
	return was, true
}

// unwatch ends a subscription. The server is told without anybody waiting for
// it.
func (d *Gateway) unwatch(m *session.Outbox, uri string) {
	was, ok := d.forget(m, uri)
	if !ok {
		return
	}
	d.carrier.Go(func() {
		ctx, stop := context.WithTimeout(d.carrier.Context(), 10*time.Second)
		defer stop()
		if err := was.connection.Subscribe(ctx, was.key.uri, false); err != nil {
			d.o.Log.Debug("a subscription could not be ended", "error", err)
		}
	})
}

// rewatch lets subscriptions follow to the connections that took the place of
// others, which have taken them over, and ends those that are not within reach any
// more.
func (d *Gateway) rewatch(s *snapshot.Snapshot, connections map[string]*upstream.Connection) {
	type lost struct {
		box *session.Outbox
		uri string
	}
	var over []lost
	w := &d.subscriptions
	w.mu.Lock()
	for box, mine := range w.own {
		for uri, was := range mine {
			if now := connections[was.key.server]; now != nil {
				was.connection = now
				mine[uri] = was
			}
			if !within(s, was, uri) {
				over = append(over, lost{box, uri})
			}
		}
	}
	w.mu.Unlock()
	for _, l := range over {
		d.unwatch(l.box, l.uri)
	}
}

// within reports whether a subscription is still within its agent's reach.
func within(s *snapshot.Snapshot, was subscription, uri string) bool {
	a := s.Agents[was.agentID]
	if a == nil {
		return false
	}
	catalog := s.ReachOf(a, was.how).Catalog(was.scope)
	if catalog == nil {
		return false
	}
	t, why := s.Resource(a, was.how, catalog, uri)
	return why == "" && t.Server.ID == was.key.server
}

// Notice is told what a server says outside of any request.
func (d *Gateway) Notice(serverID string, frame []byte, f wire.Frame) {
	if f.Method != "notifications/resources/updated" || f.Params.Empty() {
		return // nothing else concerns an agent for certain
	}
	uri, ok := wire.StringAt(frame, wire.Member(frame, f.Params, "uri"))
	if !ok {
		return
	}
	d.subscriptions.mu.Lock()
	told := maps.Clone(d.subscriptions.all[resourceKey{serverID, uri}])
	d.subscriptions.mu.Unlock()
	for m, uri := range told {
		m.ResourceUpdated(uri)
	}
}

// subscribe answers resources/subscribe and resources/unsubscribe.
func (d *Gateway) subscribe(ctx context.Context, c *carry.Caller, id []byte, uri string, on bool, out *stream.Reply) {
	if !on {
		d.unwatch(&c.Session.Outbox, uri)
		out.Result(wire.AppendResult(nil, id, []byte("{}")))
		return
	}
	t, why := c.Snapshot.Resource(c.Agent, c.How, c.Catalog, uri)
	if why != "" {
		code := wire.CodeNotAdmitted
		if t == nil {
			code = wire.CodeInvalidParams
		}
		out.Refuse(id, code, why, map[string]string{"uri": snapshot.Clip(uri)})
		return
	}
	if m := t.Server.Missing; m != nil {
		out.Refuse(id, wire.CodeNotAdmitted, t.Server.Name+": "+m.Text, map[string]string{"uri": snapshot.Clip(uri)})
		return
	}
	err := d.watch(ctx, c, &c.Session.Outbox, uri, t)
	var r *link.ServerError
	var f *link.Failure
	switch {
	case err == nil:
		out.Result(wire.AppendResult(nil, id, []byte("{}")))
	case errors.As(err, &r):
		out.Refuse(id, r.Code, t.Server.Name+": "+r.Message, nil)
	case errors.As(err, &f):
		out.Refuse(id, wire.CodeInvalidParams, t.Server.Name+": "+f.Message, nil)
	default:
		out.Refuse(id, wire.CodeInternal, t.Server.Name+": "+err.Error(), nil)
	}
}

// left releases what a session held.
func (d *Gateway) left(s *session.Session, why error) {
	d.noted(s.AgentID, s.Line, "its session has ended: "+why.Error())
	d.subscriptions.mu.Lock()
	uris := maps.Clone(d.subscriptions.own[&s.Outbox])
	d.subscriptions.mu.Unlock()
	for uri := range uris {
		d.unwatch(&s.Outbox, uri)
	}
	d.carrier.Forget(s)
}

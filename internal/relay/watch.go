package relay

import (
	"context"
	"errors"
	"maps"
	"sync"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/upstream"
)

// watchers are those who want to hear of changes of resources.
type watchers struct {
	mu  sync.Mutex
	all map[watchKey]map[*mailbox]string // the agent's URI
	own map[*mailbox]map[string]watched  // by the agent's URI
}

type watchKey struct{ server, uri string }

type watched struct {
	key    watchKey
	keeper *upstream.Connection
}

// watch subscribes a mailbox to a resource.
func (d *Door) watch(ctx context.Context, m *mailbox, uri string, t *Target) error {
	k := t.Server.Keeper
	if k == nil {
		return errors.New("there is no way to the server now")
	}
	key := watchKey{t.Server.ID, t.Tool.Name}
	w := &d.watchers
	w.mu.Lock()
	if _, twice := w.own[m][uri]; twice {
		w.mu.Unlock()
		return nil
	}
	if len(w.own[m]) >= maxSubscriptions {
		w.mu.Unlock()
		return errors.New("too many resources are subscribed to")
	}
	if w.all == nil {
		w.all, w.own = map[watchKey]map[*mailbox]string{}, map[*mailbox]map[string]watched{}
	}
	if w.all[key] == nil {
		w.all[key] = map[*mailbox]string{}
	}
	if w.own[m] == nil {
		w.own[m] = map[string]watched{}
	}
	w.all[key][m], w.own[m][uri] = uri, watched{key, k}
	w.mu.Unlock()
	err := k.Subscribe(ctx, t.Tool.Name, true)
	if err != nil {
		d.forget(m, uri)
	}
	return err
}

// forget takes a subscription out and returns what it was.
func (d *Door) forget(m *mailbox, uri string) (watched, bool) {
	w := &d.watchers
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
func (d *Door) unwatch(m *mailbox, uri string) {
	was, ok := d.forget(m, uri)
	if !ok {
		return
	}
	d.carrier.Go(func() {
		ctx, stop := context.WithTimeout(d.carrier.Context(), 10*time.Second)
		defer stop()
		if err := was.keeper.Subscribe(ctx, was.key.uri, false); err != nil {
			d.o.Log.Debug("a subscription could not be ended", "error", err)
		}
	})
}

// rewatch makes the subscriptions of connections that were replaced again, at
// those that took their place. The agents need not know.
func (d *Door) rewatch(connections map[string]*upstream.Connection) {
	w := &d.watchers
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, mine := range w.own {
		for uri, was := range mine {
			now := connections[was.key.server]
			if now == nil || now == was.keeper {
				continue
			}
			mine[uri] = watched{was.key, now}
			d.carrier.Go(func() {
				ctx, stop := context.WithTimeout(d.carrier.Context(), subscribeTime)
				defer stop()
				if err := now.Subscribe(ctx, was.key.uri, true); err != nil {
					d.o.Log.Warn("a subscription could not be made again at a server that was altered", "error", err)
				}
			})
		}
	}
}

// subscribeTime is how long a subscription that is made again may take; a server
// that was altered is started first.
const subscribeTime = time.Minute

// Notice is told what a server says outside of any request.
func (d *Door) Notice(serverID string, frame []byte, f wire.Frame) {
	if f.Method != "notifications/resources/updated" || f.Params.Empty() {
		return // nothing else concerns an agent for certain
	}
	uri, ok := wire.StringAt(frame, wire.Member(frame, f.Params, "uri"))
	if !ok {
		return
	}
	d.watchers.mu.Lock()
	told := maps.Clone(d.watchers.all[watchKey{serverID, uri}])
	d.watchers.mu.Unlock()
	for m, uri := range told {
		m.updated(uri)
	}
}

// subscribe answers resources/subscribe and resources/unsubscribe.
func (d *Door) subscribe(ctx context.Context, c *caller, id []byte, uri string, on bool, out *answer) {
	if !on {
		d.unwatch(&c.s.box, uri)
		out.final(wire.AppendResult(nil, id, []byte("{}")))
		return
	}
	t, why := c.world.resource(c.agent, c.shelf, uri)
	if why != "" {
		code := wire.CodeNotAdmitted
		if t == nil {
			code = wire.CodeInvalidParams
		}
		out.refuse(id, code, why, map[string]string{"uri": bounded(uri)})
		return
	}
	if m := t.Server.Missing; m != nil {
		out.refuse(id, wire.CodeNotAdmitted, t.Server.Name+": "+m.Text, map[string]string{"uri": bounded(uri)})
		return
	}
	err := d.watch(ctx, &c.s.box, uri, t)
	var r *link.ServerError
	var f *link.Failure
	switch {
	case err == nil:
		out.final(wire.AppendResult(nil, id, []byte("{}")))
	case errors.As(err, &r):
		out.refuse(id, r.Code, t.Server.Name+": "+r.Message, nil)
	case errors.As(err, &f):
		out.refuse(id, wire.CodeInvalidParams, t.Server.Name+": "+f.Message, nil)
	default:
		out.refuse(id, wire.CodeInternal, t.Server.Name+": "+err.Error(), nil)
	}
}

// left releases what a session held.
func (d *Door) left(s *Session) {
	d.watchers.mu.Lock()
	uris := maps.Clone(d.watchers.own[&s.box])
	d.watchers.mu.Unlock()
	for uri := range uris {
		d.unwatch(&s.box, uri)
	}
	d.carrier.Forget(s)
}

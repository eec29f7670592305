// Package desk is where the team's register is kept: everything that people
// alter (servers, secrets, agents, passes, rules, people) is validated here,
// written together with its change record, and put in force at the door at
// once. The desk also owns the keepers of the servers' links.
package desk

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/locker"
	"bouncer/internal/relay"
	"bouncer/internal/signin"
	"bouncer/internal/store"
	"bouncer/internal/team"
)

// Door is where a new world is put in force, and where it is told what servers
// say outside of any request. Both methods are safe for concurrent use.
type Door interface {
	Swap(*relay.World)
	Notice(serverID string, frame []byte, f wire.Frame)
}

// Options configure a Desk.
type Options struct {
	Link link.Options
	Log  *slog.Logger
	// Poll is how often tool lists are read again where a server does not tell
	// of changes; 0 means one minute.
	Poll time.Duration
	// NoProcesses refuses servers that are commands.
	NoProcesses bool
}

// Desk keeps the register. It is safe for concurrent use.
type Desk struct {
	o         Options
	store     *store.Store
	keys      *locker.Keys
	door      Door
	passwords *signin.Passwords
	brake     *signin.Brake
	masker    atomic.Pointer[mask.Masker]
	hub       *Hub

	ctx    context.Context // of the keepers
	cancel context.CancelFunc
	dirty  chan struct{} // capacity 1: a keeper has news
	ended  chan struct{}

	mu      sync.Mutex // held while the register is put in force
	keepers map[string]*kept
	uses    map[string]*atomic.Int64 // by pass id: when last shown
	written map[string]int64         // by pass id: what the store knows of that
	closing sync.WaitGroup           // keepers that are no longer needed, on their way out
	// values are the secrets to be masked: those in force, and those that were
	// since the start, which servers and agents may still repeat.
	values map[string]bool
}

// maxValues bounds how many values are masked by value.
const maxValues = 10_000

// kept is a running keeper with what it was started from.
type kept struct {
	keeper *link.Keeper
	from   string
}

// New returns a desk; Start puts the register in force.
func New(s *store.Store, keys *locker.Keys, o Options) *Desk {
	d := &Desk{
		o: o, store: s, keys: keys, passwords: signin.NewPasswords(), brake: signin.NewBrake(nil), hub: newHub(),
		dirty: make(chan struct{}, 1), ended: make(chan struct{}),
		keepers: map[string]*kept{}, uses: map[string]*atomic.Int64{}, written: map[string]int64{}, values: map[string]bool{},
	}
	return d
}

// Start puts the register in force at the door and begins to keep the links.
func (d *Desk) Start(ctx context.Context, door Door) error {
	d.door = door
	d.ctx, d.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err := d.publish(ctx); err != nil {
		d.cancel()
		return err
	}
	go d.run()
	return nil
}

// Close ends the keepers and writes what is still to be written.
func (d *Desk) Close(ctx context.Context) {
	d.cancel()
	<-d.ended
	d.mu.Lock()
	defer d.mu.Unlock()
	var wait sync.WaitGroup
	for _, k := range d.keepers {
		wait.Go(func() { k.keeper.Close(ctx) })
	}
	wait.Wait()
	d.closing.Wait()
	d.noteUse(ctx)
	d.hub.close()
}

// Masker returns the masker for all secrets in force.
func (d *Desk) Masker() *mask.Masker { return d.masker.Load() }

// Events returns the hub that tells of changes.
func (d *Desk) Events() *Hub { return d.hub }

// Ready reports whether the register can be read.
func (d *Desk) Ready(ctx context.Context) error { return d.store.Ping(ctx) }

// run records what the keepers find, and when passes were last used.
func (d *Desk) run() {
	defer close(d.ended)
	t := time.NewTicker(15 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-d.dirty:
			if err := d.news(d.ctx); err != nil && d.ctx.Err() == nil {
				d.o.Log.Error("a changed tool list could not be put in force", "error", err)
			}
		case <-t.C:
			d.flushUse(d.ctx)
		case <-d.ctx.Done():
			return
		}
	}
}

// news stores changed tool lists and puts them in force.
func (d *Desk) news(ctx context.Context) error {
	d.mu.Lock()
	found := map[string]link.Status{}
	for id, k := range d.keepers {
		found[id] = k.keeper.Status()
	}
	d.mu.Unlock()
	err := d.store.Quietly(ctx, func(tx *store.Tx) error {
		for id, st := range found {
			if st.State != link.Ready {
				continue
			}
			// A server that was removed meanwhile has no row to refer to.
			if err := tx.AddEdition(id, st.Checked, st.Offer.Lists[tools.Tools]); err != nil && !errors.Is(err, store.ErrInUse) {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	d.hub.tell("servers")
	return d.publish(ctx)
}

// flushUse writes when passes were last shown, so that what is read next is
// true.
func (d *Desk) flushUse(ctx context.Context) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.noteUse(ctx)
}

func (d *Desk) noteUse(ctx context.Context) {
	fresh := map[string]int64{}
	for id, at := range d.uses {
		if n := at.Load(); n > d.written[id] {
			fresh[id] = n
		}
	}
	if len(fresh) == 0 {
		return
	}
	err := d.store.Quietly(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		for id, n := range fresh {
			if err := tx.PassUsed(id, time.UnixMilli(n)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		d.o.Log.Error("the use of passes could not be noted", "error", err)
		return
	}
	for id, n := range fresh {
		d.written[id] = n
	}
}

// alter writes a change and puts it in force.
func (d *Desk) alter(ctx context.Context, by team.Person, what, subject, before, after, topic string, fn func(*store.Tx) error) error {
	m := d.Masker()
	c := team.Change{Person: by.Name, What: what, Subject: subject, Before: m.Text(before), After: m.Text(after)}
	if err := d.store.Write(ctx, c, fn); err != nil {
		return err
	}
	d.hub.tell(topic)
	// What is committed is put in force even when the caller has gone.
	if err := d.publish(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("%s is recorded, but could not be put in force: %w", what, err)
	}
	return nil
}

// publish builds a world from the register and swaps it in.
func (d *Desk) publish(ctx context.Context) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	servers, err1 := d.store.Servers(ctx)
	sealed, err2 := d.store.SealedSecrets(ctx)
	agents, err3 := d.store.Agents(ctx, now)
	passes, err4 := d.store.Passes(ctx)
	ruleRows, err5 := d.store.Rules(ctx)
	people, err6 := d.store.People(ctx)
	err := errors.Join(err1, err2, err3, err4, err5, err6)
	if err != nil {
		return err
	}
	opened := map[string]locker.Secret{}
	for name, s := range sealed {
		v, err := d.keys.Open(s.SecretID, locker.Box{KeyID: s.KeyID, DataKey: s.DataKey, Value: s.Value})
		if err != nil {
			// One unreadable secret must not keep the rest from working.
			d.o.Log.Error("a secret cannot be opened", "secret", name, "error", err)
			continue
		}
		opened[name] = v
		if len(d.values) >= maxValues {
			clear(d.values)
		}
		d.values[v.Reveal()] = true
	}
	d.masker.Store(mask.New(slices.Collect(maps.Keys(d.values))))

	w := &relay.World{Passes: map[[32]byte]*relay.Pass{}, Agents: map[string]*relay.Agent{}, Servers: map[string]*relay.Server{}, Ask: whomToAsk(people)}
	for _, a := range agents {
		w.Agents[a.ID] = &relay.Agent{ID: a.ID, Name: a.Name, Owner: a.Owner, Paused: a.Paused}
	}
	for _, p := range passes {
		if d.uses[p.ID] == nil {
			d.uses[p.ID] = new(atomic.Int64)
		}
		w.Passes[p.Hash] = &relay.Pass{ID: p.ID, AgentID: p.AgentID, Expires: p.Expires, Revoked: p.Revoked != nil, Used: d.uses[p.ID]}
	}
	names := map[string]string{}
	for _, p := range people {
		names[p.Name] = p.FullName
	}
	set := make([]rules.Rule, 0, len(ruleRows))
	for _, r := range ruleRows {
		set = append(set, rules.Rule{ID: r.ID, Effect: rules.Effect(r.Effect), Agent: r.Agent, Server: r.Server, Tool: r.Tool, Note: r.Note, By: names[r.By]})
	}
	w.Rules = rules.NewSet(set)
	gone := d.reconcile(ctx, servers, opened)
	for _, s := range servers {
		k := d.keepers[s.ID]
		// Without a keeper there is no way to it: it is paused, or not possible here.
		rs := &relay.Server{ID: s.ID, Name: s.Name, Paused: k == nil}
		if k != nil {
			rs.Keeper, rs.Offer = k.keeper, k.keeper.Status().Offer
		} else {
			list, err := d.store.Edition(ctx, s.ID)
			if err != nil {
				// Only the explanation of a refusal suffers.
				d.o.Log.Error("a recorded tool list cannot be read", "server", s.Name, "error", err)
			}
			rs.Offer.Lists = map[tools.Kind][]tools.Tool{tools.Tools: list}
		}
		w.Servers[s.Name] = rs
	}
	d.door.Swap(w)
	// Only now, so that no call is sent over a link that is being closed.
	for _, k := range gone {
		d.closing.Go(func() {
			bye, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			k.Close(bye)
		})
	}
	return nil
}

// reconcile starts and replaces keepers so that they fit the servers, and
// returns those that are no longer needed.
func (d *Desk) reconcile(ctx context.Context, servers []team.Server, secrets map[string]locker.Secret) (gone []*link.Keeper) {
	wanted := map[string]bool{}
	for _, s := range servers {
		if s.Paused || (s.Transport == Stdio && d.o.NoProcesses) {
			continue
		}
		wanted[s.ID] = true
		c := credential{secrets[s.Secret], secrets[s.ClientKey]}
		from := source(s, c)
		old := d.keepers[s.ID]
		if old != nil && old.from == from {
			continue
		}
		l, err := d.way(s, c)
		if err != nil {
			// It was checked when it was registered, so this is a newer Bouncer's work.
			d.o.Log.Error("a server cannot be reached as it is registered", "server", s.Name, "error", err)
			wanted[s.ID] = false
			continue
		}
		list, err := d.store.Edition(ctx, s.ID)
		if err != nil {
			d.o.Log.Error("a recorded tool list cannot be read", "server", s.Name, "error", err)
		}
		if r, ok := l.(*link.REST); ok {
			list = r.Static().Lists[tools.Tools]
		}
		next := &kept{from: from}
		if st := (link.Status{}); old != nil && s.Transport != REST {
			// What it offered stays in force until the new conversation has answered.
			st = old.keeper.Status()
			st.State, st.Finding, st.Since = link.Connecting, nil, time.Now().UTC()
			next.keeper = link.Adopt(d.ctx, l, st, d.keeping(s))
		} else {
			next.keeper = link.Keep(d.ctx, l, list, d.keeping(s))
		}
		if old != nil {
			gone = append(gone, old.keeper)
		}
		d.keepers[s.ID] = next
	}
	for id, k := range d.keepers {
		if !wanted[id] {
			gone = append(gone, k.keeper)
			delete(d.keepers, id)
		}
	}
	return gone
}

func (d *Desk) keeping(s team.Server) link.KeeperOptions {
	notice := func(frame []byte, f wire.Frame) { d.door.Notice(s.ID, frame, f) }
	return link.KeeperOptions{Log: d.o.Log, Poll: d.o.Poll, Sharing: s.Sharing, Notice: notice, Changed: func(link.Status) {
		// The keeper must not wait for the register, which may be waiting for it.
		select {
		case d.dirty <- struct{}{}:
		default:
		}
	}}
}

// whomToAsk names the people who can change what is admitted.
func whomToAsk(people []team.Person) string {
	var names []string
	for _, role := range []team.Role{team.Admin, team.Maintainer} {
		for _, p := range people {
			if p.Role == role && len(names) < 3 {
				names = append(names, p.FullName)
			}
		}
	}
	if len(names) == 0 {
		return "whoever runs Bouncer"
	}
	return strings.Join(names, " or ")
}

// explain turns the store's errors into the team's: nothing there, taken.
func explain(err error, kind, name string) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return &team.NotFoundError{Kind: kind, Name: name}
	case errors.Is(err, store.ErrTaken):
		return &team.ConflictError{Field: "name", Why: fmt.Sprintf("there is a %s %q already", kind, name), Hint: "choose another name, or change the one that is there"}
	}
	return err
}

// Hub tells listeners which part of the register has changed.
type Hub struct {
	mu     sync.Mutex
	ears   map[chan string]struct{}
	closed bool
}

func newHub() *Hub { return &Hub{ears: map[chan string]struct{}{}} }

// Listen returns a channel of topics: servers, agents, rules, secrets, people.
// A listener that falls behind misses topics, but never the last one of a kind
// for long: topics are told again with the next change. stop ends it.
func (h *Hub) Listen() (topics <-chan string, stop func()) {
	c := make(chan string, 64)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		close(c)
		return c, func() {}
	}
	h.ears[c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, ok := h.ears[c]; ok {
			delete(h.ears, c)
			close(c)
		}
	}
}

func (h *Hub) tell(topic string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.ears {
		select {
		case c <- topic:
		default:
		}
	}
}

func (h *Hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for c := range h.ears {
		close(c)
	}
	clear(h.ears)
}

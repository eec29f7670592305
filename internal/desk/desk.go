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
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/egress"
	"bouncer/internal/events"
	"bouncer/internal/link"
	"bouncer/internal/locker"
	"bouncer/internal/login"
	"bouncer/internal/oauth"
	"bouncer/internal/snapshot"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/upstream"
)

// Door is where a new world is put in force, and where it is told what servers
// say outside of any request. Both methods are safe for concurrent use.
type Door interface {
	Publish(*snapshot.Snapshot)
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
	// Address is the base URL under which people and agents reach the service.
	Address string
	// Private are the private address ranges that sign-ins may lead to.
	Private []netip.Prefix
	// Provider is where people sign in; nil for local passwords only.
	Provider *Provider
	// PasswordCost is what hashing a password takes; zero is the default.
	PasswordCost login.Cost
	// AddressPasses allows passes that are part of an address.
	AddressPasses bool
}

// Desk keeps the register. It is safe for concurrent use.
type Desk struct {
	o         Options
	store     *store.Store
	keys      *locker.Keys
	door      Door
	passwords *login.Passwords
	brake     *throttle.Limiter
	masker    atomic.Pointer[mask.Masker]
	hub       *events.Hub

	ctx    context.Context // of the keepers
	cancel context.CancelFunc
	dirty  chan struct{} // capacity 1: a keeper has news
	ended  chan struct{}

	mu      sync.Mutex // held while the register is put in force
	keepers map[string]*kept
	uses    map[string]*atomic.Int64 // by pass id: when last shown
	written map[string]int64         // by pass id: what the store knows of that
	closing sync.WaitGroup           // keepers that are no longer needed, on their way out
	// known are the secrets to be masked: those in force, and those that were
	// since the start, which servers and agents may still repeat.
	maskMu sync.Mutex
	known  map[string]bool
	older  map[string]bool // those learnt before the last time there were too many

	out     *oauth.Client
	egress  *egress.Client
	flows   *flows
	doors   doors             // sign-ins of agents under way
	vals    map[string]*value // by secret id; guarded by valMu
	valMu   sync.Mutex
	grantMu sync.Mutex // taken inside mu, never around it
	grants  map[string]*grant
	// agentNames are the agents' names by id, as they were put in force last.
	agentNames sync.Map
	usedOf     map[string]int64 // by secret id: what the store knows of its use; guarded by mu
}

type atomicInt = atomic.Int64

// maxValues bounds how many values are masked by value.
const maxValues = 10_000

// kept is a running keeper with what it was started from.
type kept struct {
	keeper *upstream.Connection
	from   string
}

// New returns a desk; Start puts the register in force.
func New(s *store.Store, keys *locker.Keys, o Options) *Desk {
	d := &Desk{
		o: o, store: s, keys: keys, passwords: login.NewPasswords(o.PasswordCost), brake: throttle.New(nil), hub: events.New(),
		dirty: make(chan struct{}, 1), ended: make(chan struct{}),
		keepers: map[string]*kept{}, uses: map[string]*atomic.Int64{}, written: map[string]int64{}, known: map[string]bool{},
		egress: egress.New(o.Private, nil), flows: newFlows(), vals: map[string]*value{}, grants: map[string]*grant{}, usedOf: map[string]int64{},
	}
	d.out = oauth.NewClient(d.egress)
	d.doors.init()
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
	d.egress.Close()
	d.hub.Close()
}

// Masker returns the masker for all secrets in force.
func (d *Desk) Masker() *mask.Masker { return d.masker.Load() }

// Events returns the hub that tells of changes.
func (d *Desk) Events() *events.Hub { return d.hub }

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
	found := map[string]upstream.Status{}
	first := map[string]string{} // by server: whose list is recorded where people have ways of their own
	for id, k := range d.keepers {
		found[id] = k.keeper.Status()
		server, _, own := strings.Cut(id, "/")
		if at := first[server]; found[id].State == team.StateReady && (at == "" || id < at || !own) {
			first[server] = id
		}
	}
	d.mu.Unlock()
	err := d.store.Quietly(ctx, func(tx *store.Tx) error {
		for id, st := range found {
			server, _, own := strings.Cut(id, "/")
			if st.State != team.StateReady || (own && first[server] != id) {
				continue
			}
			id = server
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
	d.hub.Publish("servers")
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
	secrets := map[string]int64{}
	d.valMu.Lock()
	for id, v := range d.vals {
		if n := v.used.Load(); n/60_000 > d.usedOf[id]/60_000 {
			secrets[id] = n
		}
	}
	d.valMu.Unlock()
	if len(fresh)+len(secrets) == 0 {
		return
	}
	err := d.store.Quietly(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		for id, n := range fresh {
			if err := tx.PassUsed(id, time.UnixMilli(n)); err != nil {
				return err
			}
		}
		for id, n := range secrets {
			if err := tx.SecretUsed(id, time.UnixMilli(n)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		d.o.Log.Error("the use of passes and secrets could not be noted", "error", err)
		return
	}
	for id, n := range secrets {
		d.usedOf[id] = n
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
	d.hub.Publish(topic)
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
	reg, err2 := d.register(ctx)
	agents, err3 := d.store.Agents(ctx, now)
	passes, err4 := d.store.Passes(ctx)
	ruleRows, err5 := d.store.Rules(ctx)
	people, err6 := d.store.People(ctx)
	err := errors.Join(err1, err2, err3, err4, err5, err6)
	if err != nil {
		return err
	}

	w := snapshot.New()
	w.Contacts = whomToAsk(people)
	for _, a := range agents {
		d.agentNames.Store(a.ID, a.Name)
		w.Agents[a.ID] = &snapshot.Agent{ID: a.ID, Name: a.Name, Owner: a.Owner, Paused: a.Paused}
	}
	for _, p := range passes {
		if d.uses[p.ID] == nil {
			d.uses[p.ID] = new(atomic.Int64)
		}
		id := p.ID
		if p.Consent != "" {
			id = p.Consent
		}
		w.Passes[p.Hash] = &snapshot.Pass{ID: id, Renews: p.Kind == team.PassToken, AgentID: p.AgentID, Expires: p.Expires, Revoked: p.Revoked != nil, Used: d.uses[p.ID], InAddress: p.Kind == team.PassInAddress, Audience: p.Audience}
		if p.Kind == team.PassInAddress && !d.o.AddressPasses {
			w.Passes[p.Hash].Revoked = true // the setting was taken back
		}
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
	byName := map[string]team.Person{}
	for _, p := range people {
		byName[p.Name] = p
	}
	gone, ways := d.reconcile(ctx, servers, reg, people)
	for _, s := range servers {
		w.Servers[s.Name] = d.place(ctx, s, ways[s.ID], agents, byName)
	}
	d.door.Publish(w)
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

// register reads what ways to servers are built from. Values that were in force
// stay the same objects, so that what is known of them is kept.
func (d *Desk) register(ctx context.Context) (*register, error) {
	sealed, err1 := d.store.SealedSecrets(ctx)
	given, err2 := d.store.Given(ctx)
	signins, err3 := d.store.SignIns(ctx)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	r := &register{values: map[string]*value{}, given: map[string]string{}, signins: map[string]store.StoredSignIn{}}
	var learnt []locker.Secret
	d.valMu.Lock()
	next := map[string]*value{}
	for name, s := range sealed {
		v := d.vals[s.SecretID]
		present, err := d.keys.Open(s.SecretID, locker.Box{KeyID: s.KeyID, DataKey: s.DataKey, Value: s.Value})
		if err != nil {
			// One unreadable secret must not keep the rest from working.
			d.o.Log.Error("a secret cannot be opened", "secret", name, "error", err)
		}
		if s.Source != "" {
			present = locker.Secret{}
		}
		var prior locker.Secret
		if s.Prior != nil && time.Now().Before(s.PriorUntil) {
			if prior, err = d.keys.Open(s.SecretID, locker.Box{KeyID: s.Prior.KeyID, DataKey: s.Prior.DataKey, Value: s.Prior.Value}); err != nil {
				d.o.Log.Error("the value before of a secret cannot be opened", "secret", name, "error", err)
			}
		}
		if v == nil || v.source != s.Source || v.kind != s.Kind || (s.Source == "" && v.present.Reveal() != present.Reveal()) || v.prior.Reveal() != prior.Reveal() {
			used := new(atomicInt)
			if v != nil {
				used = v.used
			}
			v = &value{d: d, id: s.SecretID, name: name, kind: s.Kind, source: s.Source, used: used, present: present, prior: prior, priorUntil: s.PriorUntil}
			if err != nil && present.Empty() && s.Source == "" {
				v.broken = err
			}
		}
		next[s.SecretID], r.values[name] = v, v
		learnt = append(learnt, present, prior)
	}
	d.vals = next
	d.valMu.Unlock()
	d.learn(learnt...)
	for _, g := range given {
		r.given[g.ServerID+"/"+g.Holder.Key()] = g.Secret
	}
	for _, s := range signins {
		r.signins[s.ServerID+"/"+s.Holder.Key()] = s
	}
	return r, nil
}

// keeperKey names the keeper of a holder's way to a server.
func keeperKey(serverID string, h team.Holder) string {
	if k := h.Key(); k != "" {
		return serverID + "/" + k
	}
	return serverID
}

// place is a server as the door has it: with the way of each agent.
func (d *Desk) place(ctx context.Context, s team.Server, holders []team.Holder, agents []team.Agent, people map[string]team.Person) *snapshot.Server {
	of := func(h team.Holder) *snapshot.Server {
		k := d.keepers[keeperKey(s.ID, h)]
		if k == nil {
			return nil
		}
		return &snapshot.Server{ID: keeperKey(s.ID, h), Name: s.Name, Connection: k.keeper, Offer: k.keeper.Status().Offer}
	}
	paused := s.Paused || (s.Transport == team.Stdio && d.o.NoProcesses)
	var some *snapshot.Server
	ways := map[team.Holder]*snapshot.Server{}
	for _, h := range holders {
		if v := of(h); v != nil {
			ways[h] = v
			if some == nil || (some.Connection.Status().State != team.StateReady && v.Connection.Status().State == team.StateReady) {
				some = v
			}
		}
	}
	base := &snapshot.Server{ID: s.ID, Name: s.Name, Paused: paused || (some == nil && s.SignIn == nil && (s.Per == "" || s.Per == team.PerTeam))}
	if v := ways[team.Holder{}]; v != nil && len(ways) == 1 {
		base = v
	}
	if some != nil {
		base.Offer = some.Offer
	} else {
		list, err := d.store.Edition(ctx, s.ID)
		if err != nil {
			// Only the explanation of a refusal suffers.
			d.o.Log.Error("a recorded tool list cannot be read", "server", s.Name, "error", err)
		}
		base.Offer.Lists = map[tools.Kind][]tools.Tool{tools.Tools: list}
	}
	if base.Paused || (base.Connection != nil && len(ways) == 1 && (s.Per == "" || s.Per == team.PerTeam)) {
		return base
	}
	base.ByAgent = map[string]*snapshot.Server{}
	lacking := map[string]*snapshot.Server{} // by what is missing, shared by the agents concerned
	for _, a := range agents {
		var way *snapshot.Server
		for _, h := range candidates(s, a, people) {
			if way = ways[h]; way != nil {
				break
			}
		}
		if way == nil {
			m := d.missing(s, a, people)
			if way = lacking[m.Text]; way == nil {
				way = &snapshot.Server{ID: s.ID + "/none", Name: s.Name, Offer: base.Offer, Missing: &m}
				lacking[m.Text] = way
			}
		}
		if way != base {
			base.ByAgent[a.ID] = way
		}
	}
	return base
}

// missing says what an agent lacks for a server, and where it is supplied.
func (d *Desk) missing(s team.Server, a team.Agent, people map[string]team.Person) snapshot.MissingCredential {
	m := snapshot.MissingCredential{Cause: string(diagnosis.NoCredential)}
	if s.SignIn != nil {
		m.Cause = string(diagnosis.SignInNeeded)
	}
	owner, owned := people[a.Owner]
	what := "no token is stored"
	if s.SignIn != nil {
		what = "nobody has signed in"
	}
	switch {
	case s.SignIn != nil && s.SignIn.Grant == team.GrantAssertion && owned:
		m.Text = owner.FullName + " has to sign in to Bouncer through the identity provider, which then vouches for them here"
		m.Link = d.o.Address + "/sign-in"
	case s.Per == team.PerAgent, s.Per == team.PerPerson && !owned:
		m.Text = fmt.Sprintf("%s for agent %s, which has to have its own", what, a.Name)
		m.Link = d.o.Address + ConnectPath + s.Name + "?agent=" + a.Name
	case s.Per == team.PerPerson && s.SignIn != nil:
		m.Text = owner.FullName + " has not signed in to it yet, and everybody uses their own sign-in"
		m.Link = d.o.Address + ConnectPath + s.Name
	case s.Per == team.PerPerson:
		m.Text = owner.FullName + " has stored no token for it yet, and everybody uses their own"
		m.Link = d.o.Address + ConnectPath + s.Name
	default:
		m.Text = what + " for the team yet; an admin or a maintainer can"
		m.Link = d.connectLink(s.Name, team.Holder{})
	}
	return m
}

// reconcile starts and replaces keepers so that they fit the servers and those
// who hold credentials for them. It returns the keepers that are no longer
// needed, and whose ways there are to each server.
func (d *Desk) reconcile(ctx context.Context, servers []team.Server, reg *register, people []team.Person) (gone []*upstream.Connection, ways map[string][]team.Holder) {
	wanted := map[string]bool{}
	ways = map[string][]team.Holder{}
	grants := map[string]bool{}
	for _, s := range servers {
		if s.Paused || (s.Transport == team.Stdio && d.o.NoProcesses) {
			continue
		}
		for _, h := range d.holdersOf(s, reg, people) {
			key := keeperKey(s.ID, h)
			c, err := d.credentialFor(s, h, reg)
			if err != nil {
				d.o.Log.Error("a server cannot be given its credential", "server", s.Name, "error", err)
				c.live = &values{items: []item{{how: team.CarryBearer, value: &value{d: d, name: s.Secret, used: new(atomicInt), broken: err}}}}
				c.from = err.Error()
			}
			if c.live != nil && c.live.grant != nil {
				grants[c.live.grant.id] = true
			}
			wanted[key] = true
			ways[s.ID] = append(ways[s.ID], h)
			from := source(s, c)
			old := d.keepers[key]
			if old != nil && old.from == from {
				continue
			}
			l, err := d.way(s, c)
			if err != nil {
				// It was checked when it was registered, so this is a newer Bouncer's work.
				d.o.Log.Error("a server cannot be reached as it is registered", "server", s.Name, "error", err)
				wanted[key] = false
				continue
			}
			next := d.keep(ctx, s, h, l, old)
			next.from = from
			if old != nil {
				gone = append(gone, old.keeper)
			}
			d.keepers[key] = next
		}
	}
	for id, k := range d.keepers {
		if !wanted[id] {
			gone = append(gone, k.keeper)
			delete(d.keepers, id)
		}
	}
	d.grantMu.Lock()
	defer d.grantMu.Unlock()
	for id := range d.grants {
		if !grants[id] {
			delete(d.grants, id)
		}
	}
	return gone, ways
}

// keep starts a keeper for a way. What was offered before stays in force until
// the new conversation has answered.
func (d *Desk) keep(ctx context.Context, s team.Server, h team.Holder, l link.Transport, old *kept) *kept {
	replaced := old != nil
	if old == nil && h.Key() != "" && !l.Traits().Static {
		for key, k := range d.keepers {
			if strings.HasPrefix(key, s.ID) {
				old = k // somebody else's way tells what to expect
			}
		}
	}
	if old != nil && !l.Traits().Static {
		st := old.keeper.Status()
		st.State, st.Finding, st.Since = team.StateConnecting, nil, time.Now().UTC()
		o := d.keeping(s, h)
		if replaced {
			o.Subscriptions = old.keeper.Subscriptions()
		}
		return &kept{keeper: upstream.Adopt(d.ctx, l, st, o)}
	}
	list, err := d.store.Edition(ctx, s.ID)
	if err != nil {
		d.o.Log.Error("a recorded tool list cannot be read", "server", s.Name, "error", err)
	}
	if l.Traits().Static {
		offer, err := l.Offer(ctx)
		if err != nil {
			d.o.Log.Error("what a server offers cannot be told", "server", s.Name, "error", err)
		}
		list = offer.Lists[tools.Tools]
	}
	return &kept{keeper: upstream.Start(d.ctx, l, list, d.keeping(s, h))}
}

func (d *Desk) keeping(s team.Server, h team.Holder) upstream.Options {
	id := keeperKey(s.ID, h)
	notice := func(frame []byte, f wire.Frame) { d.door.Notice(id, frame, f) }
	return upstream.Options{Log: d.o.Log, Poll: d.o.Poll, Sharing: s.Sharing, Notice: notice, Changed: func(upstream.Status) {
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

// Package node is a service as one of the nodes of a cluster: what it does with the others, from
// when it joins until it leaves.
package node

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/cluster"
	"bouncer/internal/cluster/across"
	"bouncer/internal/cluster/heads"
	"bouncer/internal/cluster/latest"
	"bouncer/internal/cluster/ledger"
	"bouncer/internal/cluster/live"
	"bouncer/internal/cluster/member"
	"bouncer/internal/cluster/nodes"
	"bouncer/internal/cluster/peer"
	"bouncer/internal/cluster/placement"
	"bouncer/internal/cluster/records"
	"bouncer/internal/cluster/replica"
	"bouncer/internal/control/budget"
	"bouncer/internal/core/team"
	"bouncer/internal/credential"
	"bouncer/internal/gate"
	"bouncer/internal/journal"
	"bouncer/internal/locker"
	"bouncer/internal/observe/metrics"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Options configure a Node. All but Now are required.
type Options struct {
	Cluster  cluster.Options
	Store    *store.Store
	Dir      string // of the data
	AloneFor time.Duration
	Labels   []string // of this node
	Version  string
	Log      *slog.Logger
	Now      func() time.Time
}

// Node is this service as one of several. A nil Node is a service by itself. It is safe for
// concurrent use once it was entered.
type Node struct {
	o       Options
	cluster *cluster.Cluster
	replica *replica.Replica
	member  *member.Member
	there   atomic.Pointer[member.Member] // the same, for those who ask before it is known
	peers   *peer.Peers
	placed  *placement.Placement // nil until it was asked for
	latest  *latest.Latest       // nil until it was entered
	unhear  func()               // ends hearing of other nodes
	working sync.WaitGroup       // all that goes on
	inForce atomic.Uint64        // the newest entry of the log that is in force
	// inForceAt is when that was all that the log had; nil for not known yet.
	inForceAt atomic.Pointer[time.Time]
	changed   chan struct{}   // capacity 1: another node altered something
	own       context.Context // of what goes on as long as the node is there
	cancel    context.CancelFunc
	at        string   // base URL of this node itself
	missing   []string // keys of the locker that are not here
}

// upkeepEvery is how often it is looked whether a copy of the state is due, and copyAfter how
// many entries of the log after the one before it is.
const (
	upkeepEvery = 20 * time.Second
	copyAfter   = 500
)

// Join has the register that is here become that of the cluster, before anything is read of it.
// The error is a *cluster.JoinError, or one for Explain.
func Join(ctx context.Context, o Options) (*Node, error) {
	c, err := cluster.Join(ctx, o.Cluster)
	if err != nil {
		return nil, err
	}
	n := &Node{o: o, cluster: c, changed: make(chan struct{}, 1)}
	n.own, n.cancel = context.WithCancel(context.Background())
	changed := func() {
		select {
		case n.changed <- struct{}{}:
		default:
		}
	}
	n.replica, err = replica.Open(ctx, replica.Options{Store: o.Store, Cluster: c, Dir: o.Dir, Log: o.Log, Changed: changed, Now: o.Now})
	if err != nil {
		n.cancel()
		c.Close()
		return nil, err
	}
	o.Store.Replicate(n.replica)
	at := n.replica.Status()
	o.Log.Info("joined the cluster", "cluster", c.ID, "as", c.Node, "entry", at.Applied, "behind", at.Last-at.Applied)
	return n, nil
}

// Leave notes that what is altered from now on is not that of a cluster.
func Leave(ctx context.Context, s *store.Store, log *slog.Logger) error {
	at, err := ledger.Of(s).Position(ctx)
	if err == nil && at.Cluster != "" {
		log.Warn("this node was one of a cluster, and is alone from now on", "cluster", at.Cluster, "entry", at.Applied)
		err = ledger.Of(s).SetPosition(ctx, ledger.Position{})
	}
	if err != nil {
		return fmt.Errorf("leave the cluster: %w", err)
	}
	return nil
}

// Explain says in one sentence why a cluster could not be joined, and what helps.
func Explain(err error) (what, hint string) {
	var join *cluster.JoinError
	var taken *member.NameTakenError
	var newer *ledger.SchemaError
	switch {
	case errors.As(err, &join):
		return join.What, join.Hint
	case errors.As(err, &taken):
		return taken.Error(), "end that one, or give this one another name with the setting cluster-node"
	case errors.As(err, &newer):
		return newer.Error(), "install the version that the other nodes have"
	}
	return fmt.Sprintf("the cluster cannot be joined: %v", err), "see in the log of its servers"
}

// BeginsKeys reports whether a key set may be made here: the first node has done so for all.
func (n *Node) BeginsKeys(ctx context.Context) bool {
	if n == nil {
		return true
	}
	begun, err := n.cluster.Fact(ctx, keysFact)
	return err == nil && begun == ""
}

// keysFact is where the cluster keeps which key its first node had first: sessions, and what nodes
// ask each other, are sealed with what follows from it.
const keysFact = "keys"

// ShareKeys notes the first key of the first node for the others, and finds out which of those
// that are needed are not here.
func (n *Node) ShareKeys(ctx context.Context, keys *locker.Keys) error {
	if n == nil {
		return nil
	}
	have := keys.IDs()
	var begun string
	err := cluster.Patiently(ctx, func() (err error) {
		begun, err = n.cluster.FactOr(ctx, keysFact, have[0])
		return err
	})
	if err != nil {
		return err
	}
	needed, err := store.KeyIDs(ctx, n.o.Store)
	if err != nil {
		return fmt.Errorf("read which keys are in use: %w", err)
	}
	needed = append(needed, begun)
	keys.Share(needed, func(key string) { n.tell(keyNews, key) })
	slices.Sort(needed)
	n.missing = slices.DeleteFunc(slices.Compact(needed), func(id string) bool { return slices.Contains(have, id) })
	return nil
}

// keyNews is of what kind the news is that a key was put in force.
const keyNews = "key-in-force"

// Listens notes where this node itself is reached, which is not where all of them are.
func (n *Node) Listens(l net.Listener) {
	if n != nil {
		n.at = "http://" + l.Addr().String()
	}
}

// Publishing notes how much of the log is in force here; nil for a service that is one node.
func (n *Node) Publishing() func() func() {
	if n == nil {
		return nil
	}
	return func() func() {
		at := n.replica.Status()
		return func() {
			n.inForce.Store(at.Applied)
			if !at.Level.IsZero() {
				n.inForceAt.Store(&at.Level)
			}
		}
	}
}

// holds is how much of the log is in force here. What came since the last publication that
// nothing is decided by counts as in force.
func (n *Node) holds(at replica.Status) uint64 {
	if held := n.inForce.Load(); held < at.Loud {
		return held
	}
	return at.Applied
}

// Enter tells the others that this node is there, and puts in force what they alter.
// The journal here is vouched for by a notary.
func (n *Node) Enter(ctx context.Context, reg *registry.Registry, notary *journal.Notary) (*nodes.Service, error) {
	if n == nil {
		return nodes.New(nil, reg, ""), nil
	}
	keeper, err := heads.New(ctx, n.o.Store, notary, n.cluster.Node)
	if err != nil {
		return nil, err
	}
	n.member, err = member.Start(ctx, member.Options{
		Cluster: n.cluster, Address: n.at, Version: n.o.Version, Labels: n.o.Labels, Log: n.o.Log, Now: n.o.Now,
		State: func() (applied, last uint64, trouble string) {
			at := n.replica.Status()
			return n.holds(at), at.Last, n.trouble()
		},
	})
	if err != nil {
		return nil, err
	}
	n.there.Store(n.member)
	n.latest = latest.New(func(ctx context.Context) error { return n.level(ctx, reg) })
	n.working.Go(func() { n.latest.Run(n.own) })
	n.working.Go(func() { n.keepUp(n.own, reg) })
	n.working.Go(func() { n.copyStates(n.own) })
	n.working.Go(func() { keeper.Run(n.own, n.now, n.o.Log) })
	return nodes.New(n.member, reg, n.cluster.ID), nil
}

// level puts in force here all that the log has by now.
func (n *Node) level(ctx context.Context, reg *registry.Registry) error {
	_, last, err := n.cluster.Last(ctx)
	if err != nil {
		return err
	}
	if err := n.replica.Wait(ctx, last); err != nil {
		return err
	}
	if n.holds(n.replica.Status()) >= last {
		return nil
	}
	return reg.Refresh()
}

// Known waits until all is in force here that the nodes have altered by now, for a second at most;
// false when that takes longer.
func (n *Node) Known(ctx context.Context) bool { return n.latest.Known(ctx) }

// Here is what a node has for itself, and shares with the others.
type Here struct {
	Serve   http.Handler // of people
	Keys    *locker.Keys
	Base    string // URL where people reach the service
	Meter   *budget.Meter
	Journal live.Journal
	Topics  live.Topics
	Kinds   []string // topics about what each node keeps for itself
}

// Across has questions about what each node keeps for itself answered by all of them, what is
// used of budgets count at all of them, and what happens at one be seen at all.
func (n *Node) Across(here Here) (http.Handler, error) {
	if n == nil {
		return here.Serve, nil
	}
	serve := n.latest.For(here.Serve)
	key, err := here.Keys.Derive("nodes")
	if err != nil {
		return nil, err
	}
	if n.peers, err = peer.Start(n.cluster, key, here.Base, serve); err != nil {
		return nil, err
	}
	follow := live.New(live.Options{Tell: n.peers.Tell, Journal: here.Journal, Topics: here.Topics, Kinds: here.Kinds, Log: n.o.Log})
	if err := n.hear(here, follow); err != nil {
		return nil, err
	}
	n.working.Go(func() { follow.Run(n.own) })
	var places across.Places
	if n.placed != nil {
		places = n.placed
	}
	return &across.Handler{
		Places: places,
		Base:   here.Base, Next: serve, Peers: n.peers, Others: func(context.Context) []string { return n.member.Others() },
		Now: n.member.OthersNow,
	}, nil
}

// Records has the cluster keep copies of what is recorded here, and puts back what it has that the
// journal here has not. For a service that is one node, or a cluster that keeps none, it is that
// journal itself.
func (n *Node) Records(ctx context.Context, log *calls.Writer, keys *locker.Keys, strict bool) (_ journal.Appender, end func(), err error) {
	if n == nil || n.o.Cluster.Records.Room == 0 {
		return log, func() {}, nil
	}
	key, err := keys.Derive("records")
	if err != nil {
		return nil, nil, err
	}
	keeper, err := records.New(records.Options{
		Place: n.cluster, Journal: log, Key: key, Node: n.cluster.Node, Strict: strict, Log: n.o.Log,
	})
	if err != nil {
		return nil, nil, err
	}
	back := 0
	err = cluster.Patiently(ctx, func() error {
		some, err := keeper.PutBack(ctx)
		back += some
		return err
	})
	if err != nil {
		keeper.Close()
		return nil, nil, err
	}
	if back > 0 {
		n.o.Log.Warn("calls that the journal here had not were put back from the cluster", "calls", back)
	}
	return keeper, keeper.Close, nil
}

// Place is where in a millisecond the ids of this node's calls begin, which follows from its name:
// calls that come to two nodes in the same millisecond have different ids, unless one node has
// as many of them as their places are apart.
func (n *Node) Place() uint16 {
	if n == nil {
		return 0
	}
	sum := sha256.Sum256([]byte(n.cluster.Node))
	return binary.BigEndian.Uint16(sum[:])
}

// First reports whether this node is the first that wants to do something for all of them; also
// when that cannot be found out: twice is better than never.
func (n *Node) First(ctx context.Context, what string) bool {
	if n == nil {
		return true
	}
	ctx, stop := context.WithTimeout(ctx, onceTime)
	defer stop()
	first, err := n.cluster.First(ctx, what)
	if err != nil {
		n.o.Log.Debug("it is done here, as it is not known whether another node did", "what", what, "error", err)
	}
	return first || err != nil
}

// onceTime is how long it may take to find out whether another node did something.
const onceTime = 3 * time.Second

// InTurn does something that one node is to do for all, and forgets that the opposite was done: an
// incident that begins, and one that is over. It does not wait.
func (n *Node) InTurn(what, opposite string, fn func()) {
	if n == nil {
		fn()
		return
	}
	n.working.Go(func() {
		if !n.First(n.own, what) {
			return
		}
		fn()
		ctx, stop := context.WithTimeout(n.own, onceTime)
		defer stop()
		if err := n.cluster.Again(ctx, opposite); err != nil {
			n.o.Log.Debug("what was done is not forgotten", "what", opposite, "error", err)
		}
	})
}

// How often nodes tell each other what is used of budgets, and all of it in case something was missed.
const (
	sharesEvery    = 200 * time.Millisecond
	allSharesEvery = 25 // of those
)

// tell tells the other nodes something; those that miss it find it out in other ways.
func (n *Node) tell(kind string, v any) {
	if err := n.peers.Tell(kind, v); err != nil {
		n.o.Log.Debug("other nodes were not told", "of", kind, "error", err)
	}
}

// hear takes in what other nodes tell, and has what is used of budgets count at all nodes.
func (n *Node) hear(here Here, follow *live.Live) (err error) {
	m := here.Meter
	n.unhear, err = n.peers.Hear(func(news peer.News) {
		var shares []budget.Share
		var forgotten, key string
		switch {
		case news.Kind == "budgets" && json.Unmarshal(news.Body, &shares) == nil:
			m.Elsewhere(news.Node, shares)
		case news.Kind == "budget-reset" && json.Unmarshal(news.Body, &forgotten) == nil:
			m.Reset(forgotten)
		case news.Kind == keyNews && json.Unmarshal(news.Body, &key) == nil:
			here.Keys.PutInForce(key)
		default:
			follow.Heard(news)
		}
	})
	if err != nil {
		return err
	}
	m.Forgot = func(budgetID string) { n.tell("budget-reset", budgetID) }
	n.working.Go(func() {
		ticker := time.NewTicker(sharesEvery)
		defer ticker.Stop()
		for i := 1; ; i++ {
			select {
			case <-n.own.Done():
				return
			case <-ticker.C:
			}
			if shares := m.Shares(i%allSharesEvery == 0); len(shares) > 0 {
				n.tell("budgets", shares)
			}
		}
	})
	return nil
}

// levelEvery is how often it is looked whether all that is carried out is in force.
const levelEvery = time.Second

// keepUp puts in force what other nodes alter, at once; and soon what was carried out and is not in
// force for whatever reason: it failed, or who wrote it here had no need of it.
func (n *Node) keepUp(ctx context.Context, reg *registry.Registry) {
	ticker := time.NewTicker(levelEvery)
	defer ticker.Stop()
	untold := false // listeners are to be told of it
	for {
		select {
		case <-ctx.Done():
			return
		case <-n.changed:
			untold = true
		case <-ticker.C:
			if at := n.replica.Status(); !untold && n.holds(at) == at.Applied {
				continue
			}
		}
		if err := reg.Refresh(); err != nil {
			n.o.Log.Error("what was altered is not in force", "error", err)
			continue
		}
		if untold {
			reg.TellAll()
			untold = false
		}
	}
}

// copyStates has copies of the state made, apart from what has to be in force at once.
func (n *Node) copyStates(ctx context.Context) {
	ticker := time.NewTicker(upkeepEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			if err := n.replica.Upkeep(ctx, copyAfter); err != nil && ctx.Err() == nil {
				n.o.Log.Warn("the cluster has no newer copy of the state", "error", err)
			}
		}
	}
}

// lease waits for the right to do something that one node does at a time, and for what was done
// before to be known here.
func (n *Node) lease(ctx context.Context, name string) (release func(), err error) {
	for {
		lease, err := n.cluster.Take(ctx, name)
		if err == nil {
			_, last, err := n.cluster.Last(ctx)
			if err == nil {
				err = n.replica.Wait(ctx, last)
			}
			free := func() { lease.Release(context.WithoutCancel(ctx)) }
			if err != nil {
				free()
				return nil, err
			}
			return free, nil
		}
		if !errors.Is(err, cluster.ErrTaken) {
			return nil, err
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// Leases is how nodes do things one at a time; nil for a service that is one node.
func (n *Node) Leases() func(context.Context, string) (func(), error) {
	if n == nil {
		return nil
	}
	return n.lease
}

// Grants is where nodes keep for each other what one of them was granted; nil for a service that is
// one node.
func (n *Node) Grants() credential.Shared {
	if n == nil {
		return nil
	}
	return n.cluster
}

// trouble is what keeps this node from being used; "" for nothing.
func (n *Node) trouble() string {
	at := n.replica.Status()
	switch {
	case len(n.missing) > 0:
		return "the key set here lacks the keys " + strings.Join(n.missing, ", ") + ", which secrets of the team are sealed with"
	case at.Trouble != nil:
		return at.Trouble.Error()
	case at.Aside > 0:
		return fmt.Sprintf("%d entries of the log were set aside, because they cannot be carried out", at.Aside)
	}
	return ""
}

// Ready returns why this node is not to be sent any work; nil when it is.
func (n *Node) Ready() error {
	if n == nil {
		return nil
	}
	if err := n.Sure(); err != nil {
		return err
	}
	if n.member.Draining() {
		return errors.New("this node is being drained")
	}
	if why := n.trouble(); why != "" && n.replica.Status().Aside == 0 {
		return errors.New(why)
	}
	return nil
}

// AloneError says that a node has not known of what the others do for longer than it may.
type AloneError struct {
	Since time.Time
	Err   error // why; nil for not being answered
}

func (e *AloneError) Error() string {
	text := fmt.Sprintf("this node has been cut off from the others since %s UTC, and cannot be sure what is allowed by now",
		e.Since.UTC().Format("15:04:05"))
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	return text
}

func (e *AloneError) Unwrap() error { return e.Err }

// Sure returns an *AloneError when this node cannot be sure of what is allowed.
func (n *Node) Sure() error {
	if n == nil || n.member == nil {
		return nil
	}
	if since := n.sureOf(); n.now().Sub(since) > n.o.AloneFor {
		return &AloneError{since, n.replica.Status().Trouble}
	}
	return nil
}

// sureOf is up to when this node knows of what the others do: most of the cluster has answered it
// since, and all that the log had by then is in force here.
func (n *Node) sureOf() time.Time {
	at := n.replica.Status()
	heard, level := n.member.Heard(), at.Level
	if since := n.inForceAt.Load(); since != nil && n.holds(at) < at.Applied {
		level = *since
	}
	if level.Before(heard) {
		return level
	}
	return heard
}

func (n *Node) now() time.Time {
	if n.o.Now == nil {
		return time.Now()
	}
	return n.o.Now()
}

// Doing is how this node does; nil for a service that is one node.
func (n *Node) Doing() *metrics.Node {
	if n == nil {
		return nil
	}
	at := n.replica.Status()
	return &metrics.Node{Ready: n.Ready() == nil, Alone: n.now().Sub(n.sureOf()), Behind: at.Last - min(n.holds(at), at.Last), Aside: at.Aside}
}

// Close leaves the cluster.
func (n *Node) Close(ctx context.Context) {
	if n == nil {
		return
	}
	n.cancel()
	if n.unhear != nil {
		n.unhear()
	}
	n.working.Wait()
	if n.peers != nil {
		n.peers.Close()
	}
	if n.placed != nil {
		n.placed.Close(ctx)
	}
	if n.member != nil {
		n.member.Close(ctx)
	}
	n.replica.Close()
	n.cluster.Close()
}

// Places is where processes run; nil for a service that is one node. moved is told of a server whose
// process is somewhere else; it must not block.
func (n *Node) Places(keys *locker.Keys, book *gate.Book, moved func(serverID string)) (*placement.Placement, error) {
	if n == nil {
		return nil, nil
	}
	key, err := keys.Derive("processes")
	if err != nil {
		return nil, err
	}
	n.placed = placement.New(placement.Options{
		Places: n.cluster, Node: n.cluster.Node, Labels: n.o.Labels, Moved: moved, Log: n.o.Log, Book: book,
		Nodes: func() []team.Node {
			if m := n.there.Load(); m != nil {
				return m.There()
			}
			return nil
		},
	})
	return n.placed, n.placed.Start(n.cluster, key)
}

// HandOver has processes run at other nodes from now on, when what other nodes ask of them has ended,
// or the context has.
func (n *Node) HandOver(ctx context.Context) {
	if n != nil && n.placed != nil {
		n.placed.HandOver(ctx)
	}
}

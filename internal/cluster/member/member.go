// Package member tells the nodes of a cluster of each other: each says every second that it is
// there and how far it is, and learns from what comes back whether it can still be sure of
// what it knows.
package member

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"bouncer/internal/cluster"
	"bouncer/internal/core/team"
)

// How often a node says that it is there, when it is told of one that it does not, and how far its
// clock may be from that of the cluster before it says so.
const (
	beat        = time.Second
	silentAfter = 3 * beat
	clockApart  = 30 * time.Second
)

// Options configure a Member. All but Now are required.
type Options struct {
	Cluster *cluster.Cluster
	Address string // base URL under which people and agents reach the node
	Version string
	Labels  []string // of this node
	// State tells how far the node is, and what keeps it from being used; "" for nothing.
	State func() (applied, last uint64, trouble string)
	Log   *slog.Logger
	Now   func() time.Time
}

// told is what a node says of itself.
type told struct {
	team.Node
	Instance string `json:"instance"` // a ULID, of the process
}

// Member is this node among the others. It is safe for concurrent use.
type Member struct {
	o        Options
	me       told
	revision uint64       // of what was said last; of the goroutine that says it
	heard    atomic.Int64 // when most of the cluster answered last, in nanoseconds since 1970
	draining atomic.Bool
	nodes    atomic.Pointer[[]team.Node] // those that are there, as they were told of last
	apart    atomic.Int64                // nanoseconds by which the clock here is ahead of the cluster's

	cancel context.CancelFunc
	ended  sync.WaitGroup
}

// NameTakenError says that another process is the node of this name.
type NameTakenError struct{ Name, Address string }

func (e *NameTakenError) Error() string {
	return fmt.Sprintf("a node of the name %s is there already, at %s", e.Name, e.Address)
}

// Start says that this node is there, and goes on doing so. It waits for what another process of
// the name said before to be forgotten; the error is a *NameTakenError when that goes on.
func Start(ctx context.Context, o Options) (*Member, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	m := &Member{o: o, me: told{
		Node: team.Node{
			Name: o.Cluster.Node, Address: o.Address, Version: o.Version, Labels: o.Labels, Started: o.Now().UTC(),
		},
		Instance: team.NewID(),
	}}
	if err := m.enter(ctx); err != nil {
		return nil, err
	}
	own, cancel := context.WithCancel(context.Background())
	m.cancel = cancel
	m.ended.Go(func() { m.tell(own) })
	return m, nil
}

// enter takes the name, which one that ended just now may have for a moment.
func (m *Member) enter(ctx context.Context) error {
	ends := time.Now().Add(cluster.LeftAfter + 5*time.Second)
	for {
		err := cluster.Patiently(ctx, func() error { return m.take(ctx) })
		var taken *NameTakenError
		if !errors.As(err, &taken) || time.Now().After(ends) {
			return err
		}
		select {
		case <-time.After(beat / 2):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// take takes the name. The error is a *NameTakenError where another node has it.
func (m *Member) take(ctx context.Context) error {
	raw, err := m.say()
	if err != nil {
		return err
	}
	if m.revision, err = m.o.Cluster.Nodes.Create(ctx, m.me.Name, raw); errors.Is(err, jetstream.ErrKeyExists) {
		err = m.taken(ctx)
	}
	if err != nil {
		return fmt.Errorf("say that this node is there: %w", err)
	}
	m.heard.Store(m.o.Now().UnixNano())
	if _, err := m.o.Cluster.Orders.Put(ctx, knownKey+m.me.Name, raw); err != nil {
		return fmt.Errorf("have this node be known: %w", err)
	}
	return nil
}

// taken looks at who has the name. It may be this one, whose first try was answered by nobody.
func (m *Member) taken(ctx context.Context) error {
	taken := &NameTakenError{Name: m.me.Name}
	have, err := m.o.Cluster.Nodes.Get(ctx, m.me.Name)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return taken // it left just now
	}
	if err != nil {
		return err
	}
	var other told
	_ = json.Unmarshal(have.Value(), &other) // its address is for people
	if other.Instance == m.me.Instance {
		m.revision = have.Revision()
		return nil
	}
	taken.Address = other.Address
	return taken
}

// say is what this node says of itself now.
func (m *Member) say() ([]byte, error) {
	me := m.me
	me.Applied, me.Last, me.Trouble = m.o.State()
	me.Draining, me.Told = m.draining.Load(), m.o.Now().UTC()
	if apart := time.Duration(m.apart.Load()); apart.Abs() > clockApart && me.Trouble == "" {
		me.Trouble = fmt.Sprintf("the clock here is %s apart from that of the cluster", apart.Abs().Round(time.Second))
	}
	raw, err := json.Marshal(me)
	if err != nil {
		return nil, fmt.Errorf("say how far this node is: %w", err)
	}
	return raw, nil
}

// tell says again and again that this node is there.
func (m *Member) tell(ctx context.Context) {
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if err := m.once(ctx); err != nil && ctx.Err() == nil {
			m.o.Log.Debug("the cluster was not told that this node is there", "error", err)
		}
	}
}

// once says it once.
func (m *Member) once(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, 3*time.Second)
	defer stop()
	raw, err := m.say()
	if err != nil {
		return err
	}
	before := m.o.Now()
	revision, err := m.o.Cluster.Nodes.Put(ctx, m.me.Name, raw)
	if err != nil {
		return fmt.Errorf("say that this node is there: %w", err)
	}
	m.revision = revision
	m.heard.Store(before.UnixNano())
	entry, err := m.o.Cluster.Nodes.GetRevision(ctx, m.me.Name, revision)
	if err != nil {
		return fmt.Errorf("read what this node said: %w", err)
	}
	m.apart.Store(int64(before.Sub(entry.Created())))
	list, err := m.there(ctx)
	if err != nil {
		return err
	}
	m.nodes.Store(&list)
	return m.obey(ctx)
}

// obey finds out what this node is to do.
func (m *Member) obey(ctx context.Context) error {
	_, err := m.o.Cluster.Orders.Get(ctx, "drain."+m.me.Name)
	if err != nil && !errors.Is(err, jetstream.ErrKeyNotFound) {
		return fmt.Errorf("ask what this node is to do: %w", err)
	}
	drains := err == nil
	switch before := m.draining.Swap(drains); {
	case drains && !before:
		m.o.Log.Info("this node is to take no new work")
	case before && !drains:
		m.o.Log.Info("this node takes new work again")
	}
	return nil
}

// Heard is when most of the cluster answered last.
func (m *Member) Heard() time.Time { return time.Unix(0, m.heard.Load()) }

// There are the nodes that are there, as they were a moment ago.
func (m *Member) There() []team.Node {
	if list := m.nodes.Load(); list != nil {
		return *list
	}
	return nil
}

// Others are the names of the other nodes, as they were a moment ago.
func (m *Member) Others() (names []string) {
	if list := m.nodes.Load(); list != nil {
		for _, n := range *list {
			if !n.Here {
				names = append(names, n.Name)
			}
		}
	}
	return names
}

// OthersNow are the names of the other nodes that are there, also of one that came just now.
func (m *Member) OthersNow(ctx context.Context) (names []string, err error) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	there, err := m.there(ctx)
	if err != nil {
		return nil, err
	}
	for _, n := range there {
		if !n.Here {
			names = append(names, n.Name)
		}
	}
	return names, nil
}

// Draining reports whether this node is to take no new work.
func (m *Member) Draining() bool { return m.draining.Load() }

// knownKey is where it is kept of a node that it was there, until somebody removes it.
const knownKey = "known."

// Nodes are the nodes that are there, and those that were and are not any more, by name.
func (m *Member) Nodes(ctx context.Context) ([]team.Node, error) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	there, err := m.there(ctx)
	if err != nil {
		return nil, err
	}
	orders, err := m.o.Cluster.Keys(ctx, m.o.Cluster.Orders)
	if err != nil {
		return nil, fmt.Errorf("ask which nodes there were: %w", err)
	}
	for _, key := range orders {
		name, known := strings.CutPrefix(key, knownKey)
		if !known || slices.ContainsFunc(there, func(n team.Node) bool { return n.Name == name }) {
			continue
		}
		entry, err := m.o.Cluster.Orders.Get(ctx, key)
		if err != nil {
			continue // it was removed
		}
		var n told
		if err := json.Unmarshal(entry.Value(), &n); err != nil {
			return nil, fmt.Errorf("read how the node %s was: %w", name, err)
		}
		n.Applied, n.Last, n.Trouble, n.Gone = 0, 0, gone, true
		_, err = m.o.Cluster.Orders.Get(ctx, "drain."+name)
		n.Draining = err == nil
		there = append(there, n.Node)
	}
	slices.SortFunc(there, func(a, b team.Node) int { return strings.Compare(a.Name, b.Name) })
	return there, nil
}

// gone is said of a node that is not there.
const gone = "is not there"

// Remove forgets a node that is not there. The error is a *team.NotFoundError, or a
// *team.ConflictError for one that is.
func (m *Member) Remove(ctx context.Context, name string) error {
	n, err := m.find(ctx, name)
	if err != nil {
		return err
	}
	if !n.Gone {
		return &team.ConflictError{
			Field: "name", Why: fmt.Sprintf("the node %s is there", name), Hint: "end its service first; it leaves the cluster with that",
		}
	}
	for _, key := range [...]string{"drain." + name, knownKey + name} {
		if err := m.o.Cluster.Orders.Purge(ctx, key); err != nil {
			return fmt.Errorf("forget the node %s: %w", name, err)
		}
	}
	return nil
}

// there are the nodes that are there.
func (m *Member) there(ctx context.Context) ([]team.Node, error) {
	names, err := m.o.Cluster.Keys(ctx, m.o.Cluster.Nodes)
	if err != nil {
		return nil, fmt.Errorf("ask which nodes there are: %w", err)
	}
	out := []team.Node{}
	said := make([]time.Time, 0, len(names)) // by the clock of the cluster
	for _, name := range names {
		entry, err := m.o.Cluster.Nodes.Get(ctx, name)
		if errors.Is(err, jetstream.ErrKeyNotFound) {
			continue // it left just now
		}
		if err != nil {
			return nil, fmt.Errorf("ask how the node %s is: %w", name, err)
		}
		var n told
		if err := json.Unmarshal(entry.Value(), &n); err != nil {
			return nil, fmt.Errorf("read how the node %s is: %w", name, err)
		}
		n.Here = name == m.me.Name
		out, said = append(out, n.Node), append(said, entry.Created())
	}
	for i, at := range said {
		if late := slices.MaxFunc(said, time.Time.Compare).Sub(at); late > silentAfter {
			out[i].Trouble = fmt.Sprintf("has said nothing for %s", late.Round(time.Second))
		}
	}
	return out, nil
}

// Drain has a node take no new work, or take some again. It holds for the name, also when the
// node is started again.
func (m *Member) Drain(ctx context.Context, name string, drain bool) error {
	if _, err := m.find(ctx, name); err != nil {
		return err
	}
	var err error
	if drain {
		_, err = m.o.Cluster.Orders.Put(ctx, "drain."+name, []byte("drain"))
	} else {
		err = m.o.Cluster.Orders.Purge(ctx, "drain."+name)
	}
	if err != nil {
		return fmt.Errorf("tell the node %s: %w", name, err)
	}
	return nil
}

// Close says that this node leaves.
func (m *Member) Close(ctx context.Context) {
	m.cancel()
	m.ended.Wait()
	_ = m.o.Cluster.Nodes.Delete(ctx, m.me.Name, jetstream.LastRevision(m.revision)) // it is forgotten by itself otherwise
}

func (m *Member) find(ctx context.Context, name string) (team.Node, error) {
	list, err := m.Nodes(ctx)
	if err != nil {
		return team.Node{}, err
	}
	at := slices.IndexFunc(list, func(n team.Node) bool { return n.Name == name })
	if at < 0 {
		return team.Node{}, &team.NotFoundError{Kind: "node", Name: name}
	}
	return list[at], nil
}

package replica

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/ledger"
	"bouncer/internal/core/replication"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
	"bouncer/standin/broker"
)

// node is a register that is kept the same as others.
type node struct {
	*Replica
	store   *store.Store
	changed atomic.Int64
}

func brokers(t *testing.T, many int) *broker.Broker {
	t.Helper()
	b, err := broker.Start(t.TempDir(), many)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return b
}

func open(t *testing.T, dir string) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(dir, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func join(t *testing.T, b *broker.Broker, name, dir string) (*node, error) {
	t.Helper()
	n := &node{store: open(t, dir)}
	c, err := cluster.Join(t.Context(), cluster.Options{
		Servers: strings.Split(b.Addresses(), ","), Name: "skerrow", Node: name, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	n.Replica, err = Open(t.Context(), Options{
		Store: n.store, Cluster: c, Dir: dir, Log: slog.New(slog.DiscardHandler), Changed: func() { n.changed.Add(1) },
	})
	if err != nil {
		return nil, err
	}
	t.Cleanup(n.Close)
	n.store.Replicate(n.Replica)
	return n, nil
}

func mustJoin(t *testing.T, b *broker.Broker, name string) *node {
	t.Helper()
	n, err := join(t, b, name, t.TempDir())
	require.NoError(t, err)
	return n
}

func agent(name string) team.Agent {
	return team.Agent{ID: team.NewID(), Name: name, Kind: "assistant", Created: time.Now()}
}

func (n *node) add(ctx context.Context, name string) error {
	return n.store.Write(ctx, team.Change{Person: "marit", What: "agent.add", Subject: name}, func(tx *store.Tx) error {
		return tx.AddAgent(agent(name))
	})
}

// same waits until all have carried out the same, and compares what came of it.
func same(t *testing.T, nodes ...*node) {
	t.Helper()
	_, last, err := nodes[0].o.Cluster.Last(t.Context())
	require.NoError(t, err)
	var want ledger.State
	for i, n := range nodes {
		require.Eventually(t, func() bool { return n.Wait(t.Context(), last) == nil }, time.Minute, 50*time.Millisecond)
		have, err := ledger.Of(n.store).Sums(t.Context())
		require.NoError(t, err)
		if i == 0 {
			want = have
		}
		assert.Empty(t, replication.Differ(want.Sums, have.Sums), "node %d", i)
	}
}

func names(t *testing.T, n *node) (out []string) {
	t.Helper()
	list, err := n.store.Agents(t.Context(), time.Now())
	require.NoError(t, err)
	for _, a := range list {
		out = append(out, a.Name)
	}
	return out
}

// Many who alter at once, at several nodes: each alteration is there once everywhere, or was
// refused everywhere.
func TestRegistersAreTheSame(t *testing.T) {
	t.Parallel()
	b := brokers(t, 1)
	nodes := []*node{mustJoin(t, b, "north"), mustJoin(t, b, "south"), mustJoin(t, b, "west")}
	const each = 12
	var taken atomic.Int64
	var all sync.WaitGroup
	for i, n := range nodes {
		for j := range each {
			all.Go(func() {
				assert.NoError(t, n.add(t.Context(), fmt.Sprintf("agent-%d-%d", i, j)))
				err := n.add(t.Context(), fmt.Sprintf("shared-%d", j))
				if err != nil {
					assert.ErrorIs(t, err, store.ErrTaken)
					taken.Add(1)
				}
			})
		}
	}
	all.Wait()
	same(t, nodes...)
	assert.Equal(t, int64(2*each), taken.Load(), "of three who add the same, one does")
	assert.Len(t, names(t, nodes[2]), 4*each)
	changes, err := nodes[1].store.Changes(t.Context(), 1000)
	require.NoError(t, err)
	assert.Len(t, changes, 4*each)
	assert.Positive(t, nodes[0].changed.Load())
}

// A node that comes later takes over what there is; one that was away catches up; one that
// was away for longer than the log goes back takes over a copy, and keeps its own calls.
func TestNodesComeAndGo(t *testing.T) {
	t.Parallel()
	b := brokers(t, 1)
	first := t.TempDir()
	alone := open(t, first)
	require.NoError(t, alone.Write(t.Context(), team.Change{What: "agent.add"}, func(tx *store.Tx) error { return tx.AddAgent(agent("from-before")) }))
	require.NoError(t, alone.Close())

	north, err := join(t, b, "north", first)
	require.NoError(t, err)
	dir := t.TempDir()
	south, err := join(t, b, "south", dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"from-before"}, names(t, south))
	require.NoError(t, south.add(t.Context(), "while-both"))
	same(t, north, south)

	south.Close()
	require.NoError(t, south.store.Close())
	require.NoError(t, north.add(t.Context(), "while-away"))
	south, err = join(t, b, "south", dir)
	require.NoError(t, err)
	assert.Contains(t, names(t, south), "while-away", "it knows what there is before it is asked for anything")
	same(t, north, south)

	south.Close()
	require.NoError(t, south.store.Local(t.Context(), func(tx *store.Tx) error {
		return tx.KeepBudgetUse(nil)
	}))
	require.NoError(t, south.store.Close())
	for i := range 5 {
		require.NoError(t, north.add(t.Context(), fmt.Sprintf("later-%d", i)))
		require.NoError(t, north.Upkeep(t.Context(), 1))
	}
	from, last, err := north.o.Cluster.Last(t.Context())
	require.NoError(t, err)
	assert.Less(t, last-from, uint64(6), "what copies hold is let go")
	south, err = join(t, b, "south", dir)
	require.NoError(t, err)
	same(t, north, south)
	require.NoError(t, south.add(t.Context(), "back-again"))
	same(t, north, south)

	// Back to one node: what is there is there, and is altered here alone.
	south.Close()
	require.NoError(t, south.store.Close())
	left := open(t, dir)
	require.NoError(t, ledger.Of(left).SetPosition(t.Context(), ledger.Position{}))
	require.NoError(t, left.Write(t.Context(), team.Change{What: "agent.add"}, func(tx *store.Tx) error { return tx.AddAgent(agent("by-itself")) }))
	require.NoError(t, left.Close())
	_, err = join(t, b, "south", dir)
	var refused *cluster.JoinError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.What, "there is a register here, and another one in the cluster")
}

// A register that is not what the others have is found out at the next mark, kept aside, and
// replaced.
func TestWhatDoesNotFitStartsAfresh(t *testing.T) {
	t.Parallel()
	b := brokers(t, 1)
	north := mustJoin(t, b, "north")
	dir := t.TempDir()
	south, err := join(t, b, "south", dir)
	require.NoError(t, err)
	require.NoError(t, north.add(t.Context(), "everywhere"))
	same(t, north, south)
	require.NoError(t, south.store.Local(t.Context(), func(tx *store.Tx) error { return tx.AddAgent(agent("here-only")) }))
	require.NoError(t, north.Upkeep(t.Context(), 1))
	require.Eventually(t, func() bool { return len(names(t, south)) == 1 }, 30*time.Second, 20*time.Millisecond)
	same(t, north, south)
	kept, err := filepath.Glob(filepath.Join(dir, "unfit-*.db"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	old, err := store.Inspect(t.Context(), kept[0])
	require.NoError(t, err)
	assert.Equal(t, 2, old.Agents)
}

// An entry that nobody can carry out is set aside by everybody, and what follows is not held up.
// One of a later version stops this node, which says so.
func TestPoisonIsSetAside(t *testing.T) {
	t.Parallel()
	b := brokers(t, 1)
	north, south := mustJoin(t, b, "north"), mustJoin(t, b, "south")
	c := north.o.Cluster
	_, last, err := c.Last(t.Context())
	require.NoError(t, err)
	for i, raw := range [][]byte{
		[]byte("nonsense"),
		encoded(t, replication.Statement{Query: "INSERT INTO nowhere VALUES (1)", Rows: 1}),
		encoded(t, replication.Statement{Query: "DELETE FROM agents", Rows: 3}),
		encoded(t, replication.Statement{Query: "INSERT INTO labels (name) VALUES (NULL)", Rows: 1}),
	} {
		last, err = c.Append(t.Context(), fmt.Sprint(i), raw, last)
		require.NoError(t, err)
	}
	again, err := c.Append(t.Context(), "3", []byte("the same id is one entry"), last)
	require.NoError(t, err)
	assert.Equal(t, last, again)
	_, err = c.Append(t.Context(), "9", []byte("x"), last-1)
	require.ErrorIs(t, err, cluster.ErrBehind)
	require.NoError(t, south.add(t.Context(), "after-it"))
	same(t, north, south)
	for _, n := range []*node{north, south} {
		aside, err := ledger.Of(n.store).Quarantined(t.Context())
		require.NoError(t, err)
		require.Len(t, aside, 4)
		assert.Contains(t, aside[3].Why, replication.ErrMalformed.Error())
		assert.Contains(t, aside[1].Why, "meets 0 rows, and met 3")
		assert.Equal(t, 4, n.Status().Aside)
	}

	e := replication.Entry{Version: replication.Version, ID: "x", Node: "east", Schema: 9999}
	e.Statements = []replication.Statement{{Query: "DELETE FROM agents", Rows: 1}}
	raw, err := replication.Encode(e)
	require.NoError(t, err)
	_, last, err = c.Last(t.Context())
	require.NoError(t, err)
	_, err = c.Append(t.Context(), "newer", raw, last)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return south.Status().Trouble != nil }, 30*time.Second, 10*time.Millisecond)
	var newer *ledger.SchemaError
	require.ErrorAs(t, south.Status().Trouble, &newer)
	assert.Equal(t, 9999, newer.Have)
	assert.Equal(t, []string{"after-it"}, names(t, south))
	var stuck *StuckError
	require.ErrorAs(t, south.add(t.Context(), "too-late"), &stuck)
	assert.Contains(t, stuck.Error(), "the cluster has schema 9999")
	assert.Contains(t, stuck.Unavailable(), "install here the version that the others have")
}

func encoded(t *testing.T, s replication.Statement) []byte {
	t.Helper()
	raw, err := replication.Encode(replication.Entry{
		Version: replication.Version, ID: team.NewID(), Node: "east", Schema: 1, Statements: []replication.Statement{s},
	})
	require.NoError(t, err)
	return raw
}

// Three servers replicate: one may be lost, and nothing is. Without most of them nothing is
// altered, which is said; when they are back it goes on.
func TestServersOfTheClusterAreLost(t *testing.T) {
	t.Parallel()
	b := brokers(t, 3)
	north, south := mustJoin(t, b, "north"), mustJoin(t, b, "south")
	require.NoError(t, north.add(t.Context(), "with-three"))
	b.Stop(0)
	require.Eventually(t, func() bool { // until another one leads
		err := south.add(t.Context(), "with-two")
		return err == nil || errors.Is(err, store.ErrTaken)
	}, time.Minute, 50*time.Millisecond)
	b.Stop(1)
	var away *cluster.UnreachableError
	require.ErrorAs(t, north.add(t.Context(), "with-one"), &away)
	require.NoError(t, b.Restart(0))
	require.NoError(t, b.Restart(1))
	require.Eventually(t, func() bool {
		err := north.add(t.Context(), "with-three-again")
		return err == nil || errors.Is(err, store.ErrTaken)
	}, time.Minute, 50*time.Millisecond)
	same(t, north, south)
	assert.Subset(t, names(t, south), []string{"with-three", "with-two", "with-three-again"})
}

// Servers that lost the log, and begin another one, are not taken for what they were: who has
// carried out more says so, and alters nothing.
func TestALogThatLostSomeIsNotFollowed(t *testing.T) {
	t.Parallel()
	b := brokers(t, 1)
	north := mustJoin(t, b, "north")
	for i := range 3 {
		require.NoError(t, north.add(t.Context(), fmt.Sprint("agent-", i)))
	}
	require.NoError(t, b.Lose(0))
	require.NoError(t, b.Restart(0))
	other := mustJoin(t, b, "other")
	require.NoError(t, other.add(t.Context(), "elsewhere"))
	var lost *LostError
	require.Eventually(t, func() bool { return errors.As(north.Status().Trouble, &lost) }, 30*time.Second, 20*time.Millisecond)
	assert.EqualValues(t, 3, lost.Applied)
	assert.LessOrEqual(t, lost.Last, uint64(1), "it may have looked before there was an entry again")
	var away *cluster.UnreachableError
	require.ErrorAs(t, north.add(t.Context(), "in-vain"), &away)
	assert.Len(t, names(t, north), 3)
	level := north.Status().Level
	require.NoError(t, other.add(t.Context(), "elsewhere-too"))
	assert.Equal(t, level, north.Status().Level, "it does not know any more what the others do")
}

// Only one of those that ask has a lease; it is had again when it was given back.
func TestLeasesAreHadByOne(t *testing.T) {
	t.Parallel()
	b := brokers(t, 1)
	north, south := mustJoin(t, b, "north").o.Cluster, mustJoin(t, b, "south").o.Cluster
	mine, err := north.Take(t.Context(), "grant")
	require.NoError(t, err)
	_, err = south.Take(t.Context(), "grant")
	require.ErrorIs(t, err, cluster.ErrTaken)
	again, err := north.Take(t.Context(), "grant")
	require.NoError(t, err)
	assert.Greater(t, again.Revision, mine.Revision)
	mine.Release(t.Context()) // which is not the lease that there is
	_, err = south.Take(t.Context(), "grant")
	require.ErrorIs(t, err, cluster.ErrTaken)
	again.Release(t.Context())
	first, err := north.First(t.Context(), "an incident began")
	require.NoError(t, err)
	second, err := south.First(t.Context(), "an incident began")
	require.NoError(t, err)
	require.NoError(t, south.Again(t.Context(), "an incident began"))
	third, err := south.First(t.Context(), "an incident began")
	require.NoError(t, err)
	assert.Equal(t, []bool{true, false, true}, []bool{first, second, third})

	theirs, err := south.Take(t.Context(), "grant")
	require.NoError(t, err)
	assert.Greater(t, theirs.Revision, again.Revision)
}

package member

import (
	"context"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster"
	"bouncer/internal/core/team"
	"bouncer/standin/broker"
)

type fixture struct {
	*Member
	ahead atomic.Int64 // of the clock
}

func enter(t *testing.T, b *broker.Broker, name string, ahead time.Duration) *fixture {
	t.Helper()
	c, err := cluster.Join(t.Context(), cluster.Options{
		Servers: strings.Split(b.Addresses(), ","), Name: "skerrow", Node: name, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	f, err := begin(t.Context(), c, ahead)
	require.NoError(t, err)
	return f
}

func begin(ctx context.Context, c *cluster.Cluster, ahead time.Duration) (f *fixture, err error) {
	f = &fixture{}
	f.ahead.Store(int64(ahead))
	f.Member, err = Start(ctx, Options{
		Cluster: c, Address: "http://127.0.0.1:4690", Version: "0.1.0", Log: slog.New(slog.DiscardHandler),
		State: func() (uint64, uint64, string) { return 7, 9, "" },
		Now:   func() time.Time { return time.Now().Add(time.Duration(f.ahead.Load())) },
	})
	return f, err
}

func (f *fixture) node(t *testing.T, name string) team.Node {
	t.Helper()
	list, err := f.Nodes(t.Context())
	require.NoError(t, err)
	for _, n := range list {
		if n.Name == name {
			return n
		}
	}
	return team.Node{}
}

// Nodes know of each other while they are there; what one is to do holds for its name, and a clock
// that is minutes apart is told of.
func TestNodesKnowOfEachOther(t *testing.T) {
	t.Parallel()
	b, err := broker.Start(t.TempDir(), 1)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	north, south := enter(t, b, "north", 0), enter(t, b, "south", 3*time.Minute)
	defer north.Close(t.Context())
	within := func(what string, ok func() bool) {
		t.Helper()
		require.Eventually(t, ok, 20*time.Second, 20*time.Millisecond, what)
	}
	within("each is told of the other", func() bool { return len(north.Others()) == 1 && len(south.Others()) == 1 })
	n := north.node(t, "south")
	assert.Equal(t, []any{"http://127.0.0.1:4690", "0.1.0", uint64(7), uint64(9), false}, []any{n.Address, n.Version, n.Applied, n.Last, n.Here})
	assert.True(t, south.node(t, "south").Here)
	within("its clock", func() bool {
		return north.node(t, "south").Trouble == "the clock here is 3m0s apart from that of the cluster"
	})

	var missing *team.NotFoundError
	require.ErrorAs(t, north.Drain(t.Context(), "nowhere", true), &missing)
	require.NoError(t, north.Drain(t.Context(), "south", true))
	within("it hears of it", south.Draining)
	within("others see it", func() bool { return north.node(t, "south").Draining })
	south.Close(t.Context())
	within("it is gone", func() bool { return len(north.Others()) == 0 })
	lost := north.node(t, "south")
	assert.Equal(t, []any{gone, true, true}, []any{lost.Trouble, lost.Gone, lost.Draining})
	var there *team.ConflictError
	require.ErrorAs(t, north.Remove(t.Context(), "north"), &there)
	require.ErrorAs(t, north.Remove(t.Context(), "nowhere"), &missing)
	again := enter(t, b, "south", 0)
	within("it still holds", again.Draining)
	require.NoError(t, north.Drain(t.Context(), "south", false))
	within("it is over", func() bool { return !again.Draining() })

	again.Close(t.Context())
	within("it is gone again", func() bool { return north.node(t, "south").Gone })
	require.NoError(t, north.Remove(t.Context(), "south"))
	assert.Empty(t, north.node(t, "south").Name)
	assert.WithinDuration(t, time.Now(), north.Heard(), 10*time.Second)
	b.Stop(0)
	before := north.Heard()
	_, err = north.Nodes(t.Context())
	require.Error(t, err)
	assert.Equal(t, before, north.Heard(), "nobody was heard meanwhile")
}

// Servers that are away while a node starts are waited for; what the node said itself meanwhile, and was
// not answered, does not keep it out, and another node does.
func TestANodeStartsWhileServersAreAway(t *testing.T) {
	t.Parallel()
	b, err := broker.Start(t.TempDir(), 1)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	c, err := cluster.Join(t.Context(), cluster.Options{
		Servers: strings.Split(b.Addresses(), ","), Name: "skerrow", Node: "north", Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	b.Stop(0)
	require.Eventually(t, func() bool { return !c.Connected() }, 20*time.Second, 10*time.Millisecond)
	var north *fixture
	entered := make(chan error)
	go func() {
		var err error
		north, err = begin(t.Context(), c, 0)
		entered <- err
	}()
	require.NoError(t, b.Restart(0))
	require.NoError(t, <-entered)
	assert.True(t, north.node(t, "north").Here)

	own := &Member{o: north.o, me: north.me}
	require.NoError(t, own.take(t.Context()), "it is this one")
	another := &Member{o: north.o, me: north.me}
	another.me.Instance = "another"
	var taken *NameTakenError
	require.ErrorAs(t, another.take(t.Context()), &taken)
	assert.Equal(t, "http://127.0.0.1:4690", taken.Address)
	north.Close(t.Context())
}

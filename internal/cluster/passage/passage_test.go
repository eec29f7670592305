package passage

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/gate"

	"bouncer/internal/core/pack"
)

// TestMain has what packs messages be made outside of the bubbles that tests run in.
func TestMain(m *testing.M) {
	if _, err := pack.Unpack(pack.Pack([]byte("x"))); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

// air is what carries between nodes.
type air struct {
	mu     sync.Mutex
	to     map[string]func([]byte)
	lose   func(node string, raw []byte) bool // nil for nothing
	heard  [][]byte
	blocks sync.Map // nodes that nothing comes to
}

// end is a node's end of it.
type end struct {
	air  *air
	node string
	line chan []byte
}

func (e *end) Send(node string, raw []byte) error {
	e.air.mu.Lock()
	e.air.heard = append(e.air.heard, raw)
	to, lost := e.air.to[node], e.air.lose != nil && e.air.lose(node, raw)
	e.air.mu.Unlock()
	if _, cut := e.air.blocks.Load(node); to != nil && !lost && !cut {
		to(raw)
	}
	return nil
}

func (e *end) Receive(fn func([]byte)) (func(), error) {
	done := make(chan struct{})
	go func() {
		for {
			select {
			case raw := <-e.line:
				fn(raw)
			case <-done:
				return
			}
		}
	}()
	e.air.mu.Lock()
	defer e.air.mu.Unlock()
	e.air.to[e.node] = func(raw []byte) { e.line <- raw }
	return func() {
		e.air.mu.Lock()
		defer e.air.mu.Unlock()
		delete(e.air.to, e.node)
		close(done)
	}, nil
}

func (e *end) MaxMessage() int { return 64 << 10 }

func join(t *testing.T, a *air, node string, key byte, serve func(context.Context, *Passage)) *Passages {
	t.Helper()
	p, err := Start(Options{
		Carrier: &end{a, node, make(chan []byte, 10_000)}, Node: node, Key: bytes.Repeat([]byte{key}, 32), Serve: serve,
		Room: gate.New("passages", gate.Limits{All: room}),
	})
	require.NoError(t, err)
	return p
}

// room is how many passages a node may have open for others.
const room = 40

// echo gives back what it is told.
func echo(ctx context.Context, p *Passage) {
	for {
		raw, err := p.Receive(ctx)
		if err != nil || p.Send(ctx, raw) != nil {
			return
		}
	}
}

func newAir() *air { return &air{to: map[string]func([]byte){}} }

// Messages of any size go both ways, in order; nobody on the way can read them, or say them again.
func TestMessagesGoBothWays(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		a := newAir()
		served := 0
		north := join(t, a, "north", 1, echo)
		south := join(t, a, "south", 1, func(ctx context.Context, p *Passage) { served++; echo(ctx, p) })
		other := join(t, a, "other", 2, echo)
		ctx := t.Context()
		p, err := north.Open(ctx, "south", []byte("bnt_canary"))
		require.NoError(t, err)
		large := []byte(strings.Repeat("moored at berth 4; ", 50_000)) // of more parts than are on the way at once
		for _, text := range [][]byte{[]byte("bnt_canary"), large, {}, []byte("last")} {
			if string(text) != "bnt_canary" {
				require.NoError(t, p.Send(ctx, text))
			}
			back, err := p.Receive(ctx)
			require.NoError(t, err)
			assert.Equal(t, string(text), string(back))
		}
		a.mu.Lock()
		heard := a.heard
		a.mu.Unlock()
		for _, raw := range heard {
			require.NotContains(t, string(raw), "canary")
			a.to["south"](raw) // said again, it is nothing
			a.to["other"](raw)
		}
		synctest.Wait()
		assert.Equal(t, 1, served)
		p.End("it is enough")
		_, err = p.Receive(ctx)
		require.ErrorIs(t, err, ErrEnded)
		require.ErrorIs(t, p.Send(ctx, []byte("more")), ErrEnded)
		synctest.Wait()
		assert.Empty(t, south.open)
		assert.Zero(t, south.o.Room.Usage().Now)

		north.Close()
		_, err = north.Open(ctx, "south", nil)
		require.ErrorIs(t, err, ErrEnded)
		for _, p := range []*Passages{south, other} {
			p.Close()
		}
	})
}

// Who takes nothing has the sender wait, and who sends all the same is not listened to.
func TestASlowReaderCostsItsWriterTime(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		a := newAir()
		var slow *Passage
		north := join(t, a, "north", 1, echo)
		south := join(t, a, "south", 1, func(_ context.Context, p *Passage) { slow = p; <-p.Done() })
		p, err := north.Open(t.Context(), "south", []byte("1"))
		require.NoError(t, err)
		sent := 1
		go func() {
			for p.Send(t.Context(), []byte("again")) == nil {
				sent++
			}
		}()
		synctest.Wait()
		assert.Equal(t, window, sent)
		for range 3 {
			_, err := slow.Receive(t.Context())
			require.NoError(t, err)
		}
		synctest.Wait()
		assert.Equal(t, window+3, sent)
		short, stop := context.WithTimeout(t.Context(), time.Second)
		defer stop()
		require.ErrorIs(t, p.Send(short, nil), context.DeadlineExceeded)

		<-p.room // as though more had been taken
		synctest.Wait()
		_, err = slow.p.partOf(slow)
		var lost *LostError
		require.ErrorAs(t, err, &lost)
		assert.Contains(t, lost.Error(), "the node north sent more than was asked for")
		north.Close()
		south.Close()
	})
}

// partOf takes what there is still, and returns what it ended with.
func (p *Passages) partOf(c *Passage) (n int, err error) {
	for ; err == nil; n++ {
		_, err = c.Receive(context.Background())
	}
	return n, err
}

// What is lost on the way ends a passage, and so does a node that is started anew, or says nothing.
func TestALossIsNoticed(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		happens func(a *air, south *Passages) *Passages
		why     string
	}{
		"it says nothing": {func(a *air, south *Passages) *Passages {
			a.blocks.Store("north", true)
			return south
		}, "says nothing any more"},
		"it is started anew": {func(a *air, south *Passages) *Passages {
			a.blocks.Store("north", true)
			south.Close()
			a.blocks.Delete("north")
			return nil
		}, "was started anew"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				a := newAir()
				waits := func(_ context.Context, p *Passage) { <-p.Done() }
				north, south := join(t, a, "north", 1, waits), join(t, a, "south", 1, waits)
				p, err := north.Open(t.Context(), "south", []byte("a call"))
				require.NoError(t, err)
				time.Sleep(2 * silent) // of the time that is only told
				require.NoError(t, p.Send(t.Context(), []byte("still there")))
				synctest.Wait()
				if south = row.happens(a, south); south == nil {
					south = join(t, a, "south", 1, waits)
					back, err := south.Open(t.Context(), "north", []byte("hello"))
					require.NoError(t, err)
					defer back.End("")
				}
				_, err = p.Receive(t.Context())
				var lost *LostError
				require.ErrorAs(t, err, &lost)
				assert.Equal(t, row.why, lost.Why)
				a.blocks.Clear()
				north.Close()
				south.Close()
			})
		})
	}
	synctest.Test(t, func(t *testing.T) {
		a := newAir()
		north, south := join(t, a, "north", 1, echo), join(t, a, "south", 1, echo)
		p, err := north.Open(t.Context(), "south", []byte("one"))
		require.NoError(t, err)
		_, err = p.Receive(t.Context())
		require.NoError(t, err)
		a.blocks.Store("south", true)
		require.NoError(t, p.Send(t.Context(), []byte("two")))
		a.blocks.Delete("south")
		require.NoError(t, p.Send(t.Context(), []byte("three")))
		_, err = p.Receive(t.Context())
		var ended *EndedError
		require.ErrorAs(t, err, &ended, "three is not taken for two")
		assert.Contains(t, ended.Error(), "the node south: it lost this passage")
		north.Close()
		south.Close()
	})
}

// A node works on so many passages for others; the next is told so.
func TestOtherNodesHaveSoMuchDoneForThem(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		a := newAir()
		waits := func(_ context.Context, p *Passage) { <-p.Done() }
		north, south := join(t, a, "north", 1, waits), join(t, a, "south", 1, waits)
		for i := range room {
			_, err := north.Open(t.Context(), "south", fmt.Append(nil, i))
			require.NoError(t, err)
		}
		p, err := north.Open(t.Context(), "south", []byte("one more"))
		require.NoError(t, err)
		_, err = p.Receive(t.Context())
		var ended *EndedError
		require.ErrorAs(t, err, &ended)
		assert.Contains(t, ended.Why, "as much for other nodes as it may")
		_, err = north.Open(t.Context(), "nobody", []byte("?"))
		require.NoError(t, err, "whether somebody is there shows later")
		north.Close()
		south.Close()
	})
	_, err := Start(Options{Key: []byte("short")})
	assert.Error(t, err)
}

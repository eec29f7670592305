package journal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// memory is an appender that can be held up and made to fail.
type memory struct {
	mu     sync.Mutex
	rows   []store.KeyedCall
	fails  int
	held   atomic.Bool   // the writer waits at the gate
	gate   chan struct{} // nil: open
	last   store.CallKey
	writes int
}

func (m *memory) AppendCalls(_ context.Context, calls []store.KeyedCall) error {
	if m.gate != nil {
		m.held.Store(true)
		<-m.gate
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.writes++; m.fails > 0 {
		m.fails--
		return errors.New("the disk is busy")
	}
	m.rows = append(m.rows, calls...)
	return nil
}

func (m *memory) LastCallKey(context.Context) (store.CallKey, error) { return m.last, nil }

func (m *memory) all() []store.KeyedCall {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]store.KeyedCall(nil), m.rows...)
}

func start(t *testing.T, m *memory, o Options) *Journal {
	o.Log = slog.New(slog.NewTextHandler(io.Discard, nil))
	j, err := New(t.Context(), m, o)
	require.NoError(t, err)
	t.Cleanup(j.Close)
	return j
}

func entry(tool string) *Entry { return &Entry{Call: team.Call{At: time.Now(), Tool: tool}} }

func TestNothingIsLostWhenTheQueueIsFull(t *testing.T) {
	t.Parallel()
	m := &memory{gate: make(chan struct{})}
	j := start(t, m, Options{Queue: 4, Gather: time.Millisecond})
	var wait sync.WaitGroup
	for i := range maxBatch + 100 {
		wait.Go(func() { assert.NoError(t, j.Record(t.Context(), entry(fmt.Sprint(i)))) })
	}
	// The writer is held up, so a late caller has to wait, and may give up.
	require.Eventually(t, func() bool { return m.held.Load() && len(j.queue) == 4 }, 30*time.Second, time.Millisecond)
	gone, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, j.Record(gone, entry("late")), context.DeadlineExceeded)
	close(m.gate)
	wait.Wait()
	j.Close()
	rows := m.all()
	require.Len(t, rows, maxBatch+100)
	for i := 1; i < len(rows); i++ {
		require.Less(t, rows[i-1].Key, rows[i].Key, "keys are unique and in order")
	}
	assert.ErrorIs(t, j.Record(t.Context(), entry("after")), ErrClosed)
}

func TestStrictAnswersWaitForTheCommit(t *testing.T) {
	t.Parallel()
	m := &memory{gate: make(chan struct{})}
	j := start(t, m, Options{Strict: true})
	done := make(chan error, 1)
	go func() { done <- j.Record(t.Context(), entry("a")) }()
	select {
	case <-done:
		t.Fatal("the record was confirmed before it was committed")
	case <-time.After(50 * time.Millisecond):
	}
	m.gate <- struct{}{}
	require.NoError(t, <-done)
	assert.Len(t, m.all(), 1)
	close(m.gate)
	m.mu.Lock()
	m.fails = 4 // every try
	m.mu.Unlock()
	assert.ErrorContains(t, j.Record(t.Context(), entry("b")), "disk is busy", "what is not committed is not confirmed")
	m.mu.Lock()
	m.fails = 1
	m.mu.Unlock()
	assert.NoError(t, j.Record(t.Context(), entry("c")), "a short failure is got over")
}

func TestBodiesAreMaskedAndBounded(t *testing.T) {
	t.Parallel()
	m := &memory{last: store.KeyAt(time.Now().Add(time.Hour))}
	secret := mask.New([]string{"canary-secret-1"})
	j := start(t, m, Options{BodyLimit: 60, Masker: func() *mask.Masker { return secret }})
	long := strings.Repeat("x", 50) + "canary-secret-1" + strings.Repeat("y", 5000)
	e := entry("a")
	e.Args, e.BytesIn = j.Keep([]byte(long)), len(long)
	e.Reply = j.Keep([]byte(`{"text":"canary-secret-1"}`))
	e.Error = "told canary-secret-1"
	require.NoError(t, j.Record(t.Context(), e))
	j.Close()
	rows := m.all()
	require.Len(t, rows, 1)
	assert.LessOrEqual(t, len(rows[0].Arguments), 60)
	assert.True(t, rows[0].Cut)
	for _, text := range []string{rows[0].Arguments, rows[0].Result, rows[0].Error} {
		assert.NotContains(t, text, "canary")
	}
	assert.Contains(t, rows[0].Result, mask.Mark)
	assert.Greater(t, rows[0].Key, m.last, "a clock that was set back does not break the order")
}

func TestSlowTapsAreDroppedAndOthersServed(t *testing.T) {
	t.Parallel()
	m := &memory{}
	j := start(t, m, Options{Strict: true})
	slow, quick := j.Tap(), j.Tap()
	got := 0
	for range 100 {
		require.NoError(t, j.Record(t.Context(), entry("a")))
		got += len(<-quick.C)
	}
	assert.Equal(t, 100, got)
	n := 0
	for range slow.C { // ends: the tap was closed when it fell behind
		n++
	}
	assert.Less(t, n, 100)
	j.Untap(slow)
	j.Close()
	_, open := <-quick.C
	assert.False(t, open, "taps end with the journal")
}

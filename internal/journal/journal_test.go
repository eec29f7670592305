package journal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
)

// memory is an appender that can be held up and made to fail.
type memory struct {
	mu     sync.Mutex
	rows   []calls.Record
	fails  int
	held   atomic.Bool   // the writer waits at the gate
	gate   chan struct{} // nil: open
	last   calls.Key
	writes int
}

func (m *memory) Append(_ context.Context, list []calls.Record, repeats ...calls.Record) error {
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
	for _, r := range repeats {
		at := slices.IndexFunc(m.rows, func(have calls.Record) bool { return have.Key == r.Key })
		m.rows[at].Times = r.Times
	}
	m.rows = append(m.rows, list...)
	return nil
}

func (m *memory) Around(_ context.Context, key calls.Key) (below, above calls.Key, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	keys := []calls.Key{m.last}
	for _, row := range m.rows {
		keys = append(keys, row.Key)
	}
	for _, k := range keys {
		if k < key {
			below = max(below, k)
		} else if above == 0 || k < above {
			above = k
		}
	}
	return below, above, nil
}

func (m *memory) all() []calls.Record {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]calls.Record(nil), m.rows...)
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
	m := &memory{last: segment.KeyAt(time.Now().Add(time.Hour))}
	secret := mask.New([]string{"canary-secret-1"})
	j := start(t, m, Options{BodyLimit: 60, Masker: func() *mask.Masker { return secret }})
	long := strings.Repeat("x", 50) + "canary-secret-1" + strings.Repeat("y", 5000)
	e := entry("a")
	e.Args, e.BytesIn = j.Keep([]byte(long)), len(long)
	e.Reply = j.Keep([]byte(`{"text":"canary-secret-1"}`))
	e.Error = "told canary-secret-1"
	e.Decision, e.Tool = team.DecisionAdmit, "resource:file:///canary-secret-1/x"
	require.NoError(t, j.Record(t.Context(), e))
	j.Close()
	rows := m.all()
	require.Len(t, rows, 1)
	assert.LessOrEqual(t, len(rows[0].Arguments), 60)
	assert.True(t, rows[0].Cut)
	for _, text := range []string{rows[0].Arguments, rows[0].Result, rows[0].Error, rows[0].Tool} {
		assert.NotContains(t, text, "canary")
	}
	assert.Contains(t, rows[0].Result, mask.Mark)
	assert.Less(t, rows[0].Key, m.last, "a newest record that is far ahead does not date the next ones")
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

func refusal(agent, tool string) *Entry {
	return &Entry{Call: team.Call{At: time.Now(), Agent: agent, Tool: tool, Decision: team.DecisionRefuse, Outcome: team.OutcomeRefused, Error: "no rule"}}
}

// An agent that is refused again and again cannot fill the disk with that.
func TestRefusalsThatRepeatAreOneRecord(t *testing.T) {
	t.Parallel()
	m := &memory{}
	var clock atomic.Int64
	start0 := time.Now()
	j := start(t, m, Options{Strict: true, Now: func() time.Time { return start0.Add(time.Duration(clock.Load())) }})
	record := func(e *Entry) { require.NoError(t, j.Record(t.Context(), e)) }
	for range 1000 {
		record(refusal("mallory", "order_fuel"))
	}
	record(refusal("mallory", "cancel_sailing"))
	record(refusal("quill", "order_fuel"))
	record(&Entry{Call: team.Call{At: time.Now(), Agent: "mallory", Tool: "order_fuel", Decision: team.DecisionAdmit, Outcome: team.OutcomeOK}})
	times := func() (out []string) {
		for _, row := range m.all() {
			out = append(out, fmt.Sprint(row.Agent, " ", row.Tool, " ", row.Times))
		}
		return out
	}
	assert.Equal(t, []string{"mallory order_fuel 1000", "mallory cancel_sailing 1", "quill order_fuel 1", "mallory order_fuel 1"}, times())
	// Names that never repeat are no way around.
	for i := range 3000 {
		record(refusal("mallory", fmt.Sprint("made-up-", i)))
	}
	rows := m.all()
	assert.LessOrEqual(t, len(rows), 4+maxDistinct+1)
	last := rows[len(rows)-1]
	assert.Equal(t, severalTools, last.Tool)
	sum := 0
	for _, row := range rows {
		sum += row.Times
	}
	assert.Equal(t, 1000+1+1+1+3000, sum, "every one is counted")
	clock.Store(int64(foldSpan))
	record(refusal("mallory", "order_fuel"))
	assert.Equal(t, 1, m.all()[len(rows)].Times, "the next minute has a record of its own")
	folds := newFolds(time.Now)
	for i := range 3 * maxFolds {
		folds.add(calls.Record{Call: refusal(fmt.Sprint("agent-", i), "x").Call})
	}
	assert.LessOrEqual(t, len(folds.bySame), maxFolds)
}

// What cannot be recorded is not run in strict mode, and is counted as lost in
// normal mode; nobody waits for what fails anyway.
func TestAJournalThatCannotWriteSaysSo(t *testing.T) {
	t.Parallel()
	var full atomic.Bool
	m := &memory{}
	strict := start(t, m, Options{Strict: true, Full: full.Load})
	require.NoError(t, strict.Ready())
	full.Store(true)
	var cannot *UnrecordableError
	require.ErrorAs(t, strict.Ready(), &cannot)
	assert.Contains(t, cannot.Why, "disk-reserve")
	assert.ErrorAs(t, strict.Record(t.Context(), entry("a")), &cannot)
	full.Store(false)
	require.NoError(t, strict.Ready())

	broken := &memory{fails: 1 << 30}
	ran := func() *Entry {
		e := entry("a")
		e.Decision = team.DecisionAdmit
		return e
	}
	now := time.Now()
	failing := start(t, broken, Options{Strict: true, Now: func() time.Time { return now }})
	require.Error(t, failing.Record(t.Context(), ran()))
	require.ErrorAs(t, failing.Ready(), &cannot)
	state, err := failing.State(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "strict false the disk is busy 1", fmt.Sprint(state.Mode, " ", state.Recording, " ", state.Why, " ", state.Lost))
	now = now.Add(retryAfter + time.Second)
	assert.NoError(t, failing.Ready(), "after a while one call tries again")
	broken.mu.Lock()
	broken.fails = 0
	broken.mu.Unlock()
	require.NoError(t, failing.Record(t.Context(), ran()))
	state, _ = failing.State(t.Context())
	assert.True(t, state.Recording)

	normal := start(t, &memory{fails: 1 << 30}, Options{Gather: time.Millisecond, Queue: 2})
	assert.NoError(t, normal.Ready(), "normal mode runs on")
	for range 50 {
		require.NoError(t, normal.Record(t.Context(), ran()))
	}
	normal.Close()
	state, _ = normal.State(t.Context())
	assert.EqualValues(t, 50, state.Lost)
}

// A clock that jumps dates no more records than those of the jump.
func TestRecordsFollowTheClock(t *testing.T) {
	t.Parallel()
	m := &memory{}
	begin := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	now := begin
	j := start(t, m, Options{Strict: true, Now: func() time.Time { return now }})
	record := func() time.Time {
		e := entry("a")
		e.At = now
		require.NoError(t, j.Record(t.Context(), e))
		rows := m.all()
		return rows[len(rows)-1].Key.Time()
	}
	for range 5 {
		assert.Equal(t, begin, record(), "in one moment")
	}
	now = begin.AddDate(5, 0, 0)
	assert.Equal(t, now, record())
	now = begin.Add(time.Second)
	assert.Equal(t, now, record(), "back again")
	now = begin
	for range 3 {
		assert.WithinDuration(t, begin, record(), time.Second, "amid what is there")
	}
	now = begin.Add(time.Hour)
	assert.Equal(t, now, record())
	seen := map[calls.Key]bool{}
	for _, row := range m.all() {
		assert.False(t, seen[row.Key], "keys are unique")
		seen[row.Key] = true
	}
}

// oldest is a store of which only the oldest can be removed.
type oldest struct {
	keys  []calls.Key
	bytes int64 // of one record
}

func (o *oldest) Remove(_ context.Context, before calls.Key, most int) (n int, _ error) {
	for len(o.keys) > 0 && o.keys[0] < before && n < most {
		o.keys, n = o.keys[1:], n+1
	}
	return n, nil
}

func (o *oldest) Merge(context.Context, time.Time) (int, error) { return 0, nil }

func (o *oldest) Size(context.Context) (int64, error) { return int64(len(o.keys)) * o.bytes, nil }

func TestOldRecordsGoByAgeAndBySize(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	o := &oldest{bytes: 100}
	for i := range 10_000 {
		o.keys = append(o.keys, segment.KeyAt(now.Add(time.Duration(i-10_000)*time.Minute)))
	}
	k := keeper{Keep{Age: 24 * time.Hour}, o, func() time.Time { return now }}
	n, err := k.step(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 10_000-24*60, n)
	assert.Len(t, o.keys, 24*60)
	k.keep = Keep{Size: 100_000}
	n, err = k.step(t.Context())
	require.NoError(t, err)
	assert.LessOrEqual(t, len(o.keys), 1000)
	assert.Positive(t, n)
	n, err = k.step(t.Context())
	require.NoError(t, err)
	assert.Zero(t, n, "what is within the bounds stays")
}

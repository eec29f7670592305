package journal

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
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
	lost   error         // why places cannot be looked up; nil for they can
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
	if m.lost != nil {
		return 0, 0, m.lost
	}
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

// said counts what is logged, by message.
type said struct {
	slog.Handler
	mu    sync.Mutex
	times map[string]int
}

func newSaid() *said { return &said{Handler: slog.DiscardHandler, times: map[string]int{}} }

func (s *said) Enabled(context.Context, slog.Level) bool { return true }

func (s *said) Handle(_ context.Context, r slog.Record) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.times[r.Message]++
	return nil
}

func (s *said) of(message string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.times[message]
}

func start(t *testing.T, m *memory, o Options) *Journal {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
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
	assert.False(t, j.Watched())
	own := j.TapHere()
	assert.False(t, j.Watched())
	elsewhere := j.Tap()
	assert.True(t, j.Watched())
	j.Repeat([]team.Call{{Tool: "there"}})
	assert.Equal(t, "there", (<-elsewhere.C)[0].Tool)
	assert.Empty(t, own.C)
	require.NoError(t, j.Record(t.Context(), entry("here")))
	assert.Equal(t, "here", (<-own.C)[0].Tool)
	j.Untap(own)
	j.Untap(elsewhere)
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
	assert.Len(t, rows, 4+maxDistinct-2+1, "two of the hundred were there, and one stands for all others")
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
}

// However many agents are refused, what is remembered of it is bounded, and what is over makes room.
func TestWhatIsFoldedIsBounded(t *testing.T) {
	t.Parallel()
	now := time.Now()
	folds := newFolds(func() time.Time { return now })
	add := func(agent string) bool {
		c := refusal(agent, "x").Call
		c.Times = 1
		_, again := folds.add(calls.Record{Call: c})
		return again
	}
	for i := range maxFolds + 50 {
		add(fmt.Sprint("agent-", i))
	}
	assert.Equal(t, []int{maxFolds, maxFolds}, []int{len(folds.bySame), len(folds.distinct)})
	now = now.Add(foldSpan - 1)
	assert.True(t, add("agent-1"), "within the minute")
	assert.False(t, add("late"))
	assert.Len(t, folds.bySame, maxFolds, "what is not over stays")
	now = now.Add(1)
	assert.False(t, add("late"))
	assert.Equal(t, []int{2, 2}, []int{len(folds.bySame), len(folds.distinct)}, "what is not stored yet stays, too")
	assert.Len(t, folds.repeats(), 1)
	assert.True(t, add("late"))
	assert.False(t, add("agent-1"), "a minute has passed since it began")
	assert.Equal(t, []int{2, 2}, []int{len(folds.bySame), len(folds.distinct)})
	assert.Equal(t, 2, folds.repeats()[0].Times)
	assert.Empty(t, folds.repeats())
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
	log := newSaid()
	failing := start(t, broken, Options{Strict: true, Now: func() time.Time { return now }, Log: slog.New(log)})
	require.Error(t, failing.Record(t.Context(), ran()))
	require.ErrorAs(t, failing.Ready(), &cannot)
	state, err := failing.State(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "strict false the disk is busy 1", fmt.Sprint(state.Mode, " ", state.Recording, " ", state.Why, " ", state.Lost))
	now = now.Add(retryAfter)
	assert.Error(t, failing.Ready())
	now = now.Add(1)
	assert.NoError(t, failing.Ready(), "after a while one call tries again")
	broken.mu.Lock()
	broken.fails = 0
	broken.mu.Unlock()
	require.NoError(t, failing.Record(t.Context(), ran()))
	state, _ = failing.State(t.Context())
	assert.True(t, state.Recording)
	assert.Equal(t, []int{1, 1}, []int{log.of("calls could not be recorded"), log.of("calls are recorded again")})

	normal := start(t, &memory{fails: 1 << 30}, Options{Gather: time.Millisecond, Queue: 2})
	assert.NoError(t, normal.Ready(), "normal mode runs on")
	for range 50 {
		require.NoError(t, normal.Record(t.Context(), ran()))
	}
	normal.Close()
	state, _ = normal.State(t.Context())
	assert.EqualValues(t, 50, state.Lost)
}

// A disk that is busy is tried again, a little later each time, and one that failed before is not
// waited for as long.
func TestWhatFailsIsTriedAgain(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		m := &memory{fails: 1 << 30}
		log := newSaid()
		j := start(t, m, Options{Strict: true, Log: slog.New(log)})
		for _, row := range []struct {
			writes int
			took   time.Duration
		}{{4, 1200 * time.Millisecond}, {2, 200 * time.Millisecond}, {2, 200 * time.Millisecond}} {
			before, began := m.writes, time.Now()
			require.Error(t, j.Record(t.Context(), entry("a")))
			assert.Equal(t, row.writes, m.writes-before)
			assert.Equal(t, row.took, time.Since(began))
		}
		assert.Equal(t, 1, log.of("calls could not be recorded"), "what goes on is said once")
		j.Close()
	})
}

// A full disk is said once, and after each thousand calls that ran unrecorded.
func TestWhatIsLostIsSaidNowAndThen(t *testing.T) {
	t.Parallel()
	log := newSaid()
	m := &memory{}
	j := start(t, m, Options{Strict: true, Full: func() bool { return true }, Log: slog.New(log)})
	e := entry("a")
	e.Decision = team.DecisionAdmit
	for i, want := range []int{1, 1, 1} {
		require.Error(t, j.Record(t.Context(), e))
		assert.Equal(t, want, log.of("calls could not be recorded"), "%d", i)
	}
	for range 996 {
		require.Error(t, j.Record(t.Context(), e))
	}
	assert.Equal(t, 1, log.of("calls could not be recorded"))
	require.Error(t, j.Record(t.Context(), e))
	assert.Equal(t, 2, log.of("calls could not be recorded"))
	require.Error(t, j.Record(t.Context(), e))
	require.Error(t, j.Record(t.Context(), refusal("quill", "x")), "which did not run")
	assert.Equal(t, 2, log.of("calls could not be recorded"))
	state, err := j.State(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 1001, state.Lost)
	assert.Zero(t, m.writes, "nothing is written to a full disk")
}

// Many records are one commit, up to a bound, and each so many wake whoever tidies.
func TestRecordsAreCommittedTogether(t *testing.T) {
	t.Parallel()
	for _, strict := range []bool{true, false} {
		j := &Journal{
			o: Options{Strict: strict, Gather: time.Hour}, queue: make(chan *Entry, 2*maxBatch), enough: make(chan struct{}, 1),
			closing: make(chan struct{}),
		}
		for i := range maxBatch + 1 {
			j.queue <- entry(fmt.Sprint(i))
		}
		timer := time.NewTimer(time.Hour)
		first := j.gather([]*Entry{entry("first")}, timer)
		assert.Len(t, first, maxBatch)
		assert.Equal(t, fmt.Sprint(maxBatch-2), first[maxBatch-1].Tool, "in their order")
		close(j.queue)
		close(j.closing)
		assert.Len(t, j.gather(nil, timer), 2, "what is left, when nothing follows")
		timer.Stop()
	}

	// It does not wait for its time when many wait, and nothing is left when it ends.
	kept := &memory{}
	few := start(t, kept, Options{Gather: time.Hour, Queue: 8})
	for i := range 20 { // more than there is room for
		require.NoError(t, few.Record(t.Context(), entry(fmt.Sprint(i))))
	}
	few.Close()
	assert.Len(t, kept.rows, 20)
	told := &Journal{queue: make(chan *Entry, 8), enough: make(chan struct{}, 1)}
	for i, want := range []int{0, 0, 0, 1, 1} { // half of the room, and once
		told.queue <- entry(fmt.Sprint(i))
		told.tellPlenty()
		assert.Len(t, told.enough, want)
	}

	j := &Journal{many: make(chan struct{}, 1)}
	for range 3 { // it is awake after the first time
		j.written(segment.MaxRecords - 1)
		j.written(1)
		assert.Equal(t, []int{1, 0}, []int{len(j.many), j.since})
	}
	<-j.many
	j.written(segment.MaxRecords - 1)
	assert.Empty(t, j.many)
}

func TestDefaultsAreThoseOfTheOptions(t *testing.T) {
	t.Parallel()
	young := &oldest{keys: []calls.Key{segment.KeyAt(time.Now())}, bytes: 70}
	j := start(t, &memory{}, Options{Keep: Keep{Age: 72 * time.Hour, Size: 9000}, From: young})
	assert.Equal(t, []any{2048, 4096, 100 * time.Millisecond}, []any{j.o.BodyLimit, cap(j.queue), j.o.Gather})
	long := make([]byte, 9000)
	assert.Len(t, j.Keep(long), 2048+1024)
	assert.Len(t, j.Keep(long[:7]), 7)
	secret := mask.New([]string{"canary-secret-1"})
	masking := start(t, &memory{}, Options{BodyLimit: 60, Masker: func() *mask.Masker { return secret }})
	assert.Len(t, masking.Keep(long), 60+secret.Longest()+1024)
	state, err := j.State(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []any{"normal", true, 3, int64(9000), int64(70)},
		[]any{state.Mode, state.Recording, state.KeepDays, state.KeepBytes, state.Bytes})
	assert.False(t, j.Strict())
}

// A record says that it is not the whole of what was carried, whichever part is not.
func TestWhatIsCutIsSaid(t *testing.T) {
	t.Parallel()
	secret := mask.New([]string{"canary-secret-1"})
	j := start(t, &memory{}, Options{BodyLimit: 10, Masker: func() *mask.Masker { return secret }})
	for name, row := range map[string]struct {
		e   Entry
		cut bool
	}{
		"all of it":             {Entry{Args: "0123456789", Reply: "0123456789", Call: team.Call{BytesIn: 10, BytesOut: 10}}, false},
		"long arguments":        {Entry{Args: "0123456789a", Call: team.Call{BytesIn: 11}}, true},
		"a long reply":          {Entry{Reply: "0123456789a", Call: team.Call{BytesOut: 11}}, true},
		"arguments left behind": {Entry{Args: "0", Call: team.Call{BytesIn: 2}}, true},
		"a reply left behind":   {Entry{Reply: "0", Call: team.Call{BytesOut: 2}}, true},
	} {
		assert.Equal(t, row.cut, j.masked(&row.e).Cut, name)
	}
	for _, row := range []struct{ decision, tool, want string }{
		{team.DecisionAdmit, "canary-secret-1", "canary-secret-1"}, // a tool that a server lists
		{team.DecisionRefuse, "canary-secret-1", mask.Mark},
		{team.DecisionAdmit, "resource:canary-secret-1", "resource:" + mask.Mark},
	} {
		assert.Equal(t, row.want, j.masked(&Entry{Call: team.Call{Decision: row.decision, Tool: row.tool}}).Tool)
	}
}

// A record gets the key of its time, or the next one that is free.
func TestKeysAreThoseOfTheTimeOrNext(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	key := segment.KeyAt(now)
	log := newSaid()
	const setBack = "the clock was set back; records follow it"
	for name, row := range map[string]struct {
		last, above calls.Key
		taken       []calls.Key
		at          time.Time
		want        calls.Key
		said        int
	}{
		"the first":                       {0, 0, nil, now, key, 0},
		"in one moment":                   {key, 0, nil, now, key + 1, 0},
		"somewhat late":                   {key + 1, 0, nil, now.Add(-time.Second), key + 2, 0},
		"a clock a little behind":         {segment.KeyAt(now.Add(clockSlack)), 0, nil, now, segment.KeyAt(now.Add(clockSlack)) + 1, 0},
		"a clock that was set back":       {segment.KeyAt(now.Add(clockSlack + time.Millisecond)), 0, nil, now, key, 1},
		"of a little later":               {0, 0, nil, now.Add(clockSlack), segment.KeyAt(now.Add(clockSlack)), 0},
		"of a future that is none":        {0, 0, nil, now.Add(clockSlack + time.Millisecond), key, 0},
		"below what is there":             {key - 5, key + 1, []calls.Key{key + 1}, now, key, 0},
		"next to what is there":           {key - 1, key, []calls.Key{key}, now, key + 1, 0},
		"with room before what is there":  {key - 2, key, []calls.Key{key}, now, key - 1, 0},
		"amid what is there":              {key - 1, key, []calls.Key{key, key + 1, key + 2, key + 4}, now, key + 3, 0},
		"where all is taken from further": {key - 1, key, []calls.Key{key - 1, key}, now, key + 1, 0},
	} {
		m := &memory{}
		for _, k := range row.taken {
			m.rows = append(m.rows, calls.Record{Key: k})
		}
		before := log.of(setBack)
		j := &Journal{o: Options{Now: func() time.Time { return now }, Log: slog.New(log)}, to: m, last: row.last, above: row.above}
		assert.Equal(t, row.want, j.nextKey(t.Context(), row.at), name)
		assert.Equal(t, row.want, j.last, name)
		assert.Equal(t, row.said, log.of(setBack)-before, name)
	}
	moment := func(place uint16) calls.Key {
		j := &Journal{o: Options{Now: func() time.Time { return now }, Place: place}, to: &memory{}}
		return j.nextKey(t.Context(), now)
	}
	here, there := moment(7), moment(65535)
	assert.NotEqual(t, here.ULID(), there.ULID(), "calls of one moment, at two nodes")
	assert.Equal(t, []time.Time{now, now}, []time.Time{here.Time(), there.Time()})
	unreadable := &Journal{o: Options{Log: slog.New(log)}, to: &memory{lost: errors.New("damaged")}, last: key}
	assert.Equal(t, []calls.Key{key + 1, key + 2}, []calls.Key{unreadable.amid(t.Context(), 5), unreadable.amid(t.Context(), 5)},
		"what cannot be looked up goes to the end")
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
	mu     sync.Mutex
	keys   []calls.Key
	bytes  int64 // of one record
	stuck  error // why nothing can be removed, nor put together
	merged int
}

func (o *oldest) Remove(_ context.Context, before calls.Key, most int) (n int, _ error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.stuck != nil {
		return 0, o.stuck
	}
	for len(o.keys) > 0 && o.keys[0] < before && n < most {
		o.keys, n = o.keys[1:], n+1
	}
	return n, nil
}

func (o *oldest) Merge(context.Context, time.Time) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.merged++
	return 0, o.stuck
}

func (o *oldest) Size(context.Context) (int64, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return int64(len(o.keys)) * o.bytes, nil
}

// stubborn keeps everything, whatever is to be removed.
type stubborn struct{ oldest }

func (s *stubborn) Remove(context.Context, calls.Key, int) (int, error) { return 0, nil }

func TestOldRecordsGoByAgeAndBySize(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) { // which makes the pauses short
		now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
		o := &oldest{bytes: 100}
		for i := range 10_000 {
			o.keys = append(o.keys, segment.KeyAt(now.Add(time.Duration(i-10_000)*time.Minute)))
		}
		k := keeper{Keep{}, o, func() time.Time { return now }}
		step := func(ctx context.Context, want int, why string) {
			n, err := k.step(ctx)
			require.NoError(t, err)
			assert.Equal(t, want, n, why)
		}
		step(t.Context(), 0, "without a bound nothing goes")
		k.keep.Age = 24 * time.Hour
		step(t.Context(), 10_000-24*60, "by age")
		ended, end := context.WithCancel(t.Context())
		end()
		o.keys = make([]calls.Key, 5*keepSlice)
		step(ended, keepSlice, "whoever is to stop stops after a step")
		k.keep = Keep{Size: 100_000}
		step(ended, keepSlice, "here too")
		o.keys = make([]calls.Key, 2*keepSlice+1000)
		step(t.Context(), keepSlice+keepSlice, "by size, until it fits")
		o.keys = make([]calls.Key, 1000)
		step(t.Context(), 0, "what is within the bounds stays")
		o.keys = make([]calls.Key, 1001)
		k.from = &stubborn{oldest{keys: o.keys, bytes: 100}}
		step(t.Context(), 0, "what cannot be removed is not asked for again and again")
		o.stuck, k.from = errors.New("the disk is gone"), o
		_, err := k.step(t.Context())
		assert.ErrorIs(t, err, o.stuck)
		k.keep = Keep{Age: time.Hour}
		_, err = k.step(t.Context())
		assert.ErrorIs(t, err, o.stuck)
	})
}

// It is tidied at once, every minute and after many records; what goes wrong is said, but for what
// ends because the journal does.
func TestTidyingGoesOn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		log := newSaid()
		o := &oldest{keys: make([]calls.Key, 5), bytes: 1}
		m := &memory{}
		j := start(t, m, Options{Strict: true, Keep: Keep{Age: time.Hour}, From: o, Log: slog.New(log)})
		synctest.Wait()
		tidied := func(merged, removed, failedMerges, failedSteps int, why string) {
			time.Sleep(keepPause) // of the bubble's clock
			synctest.Wait()
			assert.Equal(t, []int{merged, removed, failedMerges, failedSteps}, []int{
				o.merged, log.of("old records were removed from the journal"),
				log.of("small blocks of the journal could not be put together"), log.of("old records could not be removed"),
			}, why)
		}
		tidied(1, 1, 0, 0, "at the start")
		o.mu.Lock()
		o.stuck = errors.New("the disk is busy")
		o.mu.Unlock()
		time.Sleep(keepEvery)
		tidied(2, 1, 1, 1, "a minute later")
		j.many <- struct{}{}
		tidied(3, 1, 2, 2, "after many records")
		o.mu.Lock()
		o.stuck = nil
		o.mu.Unlock()
		j.many <- struct{}{}
		tidied(4, 1, 2, 2, "with nothing to be removed nothing is said")
		j.Close()
	})
}

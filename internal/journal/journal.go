// Package journal records every call. Records go through a bounded queue to one
// writer, which commits them in batches. A full queue slows callers down; it
// never drops a record. In strict mode a caller waits until its record is
// committed; otherwise it never waits for the disk.
package journal

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/core/trace"
	"bouncer/internal/store"
)

// Appender is the part of the store that the journal writes to. It is called
// by one goroutine only.
type Appender interface {
	// Append writes calls, and the counts of refusals that are recorded already.
	Append(ctx context.Context, list []calls.Record, repeats ...calls.Record) error
	// Around returns the newest key below a key, and the oldest one from there
	// on; 0 for none.
	Around(ctx context.Context, key calls.Key) (below, above calls.Key, err error)
}

// Options configure a Journal; the zero value is the default.
type Options struct {
	Strict    bool
	BodyLimit int           // bytes kept of arguments and of a result; 0 means 2048
	Queue     int           // records waiting at most; 0 means 4096
	Gather    time.Duration // how long the writer gathers records when nobody waits; 0 means 100 ms
	Log       *slog.Logger
	// Masker returns the masker in force; nil masks by form only.
	Masker func() *mask.Masker
	Keep   Keep
	From   Oldest // where old records are removed; nil for not at all
	// Full reports whether the disk is nearly full; nil for never.
	Full func() bool
	// Now is the clock; nil is time.Now.
	Now func() time.Time
	// Place is where in a millisecond the keys of this journal begin. Journals that are looked at
	// together have different ones, so that no two of their calls have the same id.
	Place uint16
}

const maxBatch = segment.MaxRecords

// Entry is one call on its way into the journal. The bodies may be longer than
// what is kept, but not by more than Keep asks for.
type Entry struct {
	team.Call
	Args, Reply string
	Trace       *trace.Call // its place in a trace; nil for none
	done        chan error
}

// Journal takes entries and writes them. Close it after the last Record.
type Journal struct {
	o     Options
	to    Appender
	queue chan *Entry
	ended chan struct{}
	// enough tells the writer that many records wait, of capacity 1; closing is closed when none follow.
	enough, closing chan struct{}

	mu     sync.RWMutex // guards closed; held for reading while a record is handed over
	closed bool

	tapMu sync.Mutex // apart from mu: the writer must never wait for a caller that waits for it
	taps  map[*Tap]struct{}

	failing atomic.Pointer[failing] // why nothing can be written; nil for it can
	lost    atomic.Int64            // records that could not be written

	keeper keeper
	many   chan struct{}      // tells the keeper that many records were written; of capacity 1
	stop   context.CancelFunc // ends the removal of what is old
	tidied chan struct{}

	// Owned by the writer.
	last  calls.Key
	above calls.Key // the oldest key after last, when the clock was set back; 0 for none
	folds *folds
	since int // records written since the keeper was woken
}

// failing says since when and why records cannot be written.
type failing struct {
	since time.Time
	why   string
	full  bool
}

// ErrClosed is returned for records after Close.
var ErrClosed = errors.New("the journal is closed")

const diskFull = "the disk is nearly full (setting disk-reserve)"

// UnrecordableError says why a call cannot be recorded now.
type UnrecordableError struct{ Why string }

func (e *UnrecordableError) Error() string { return "calls cannot be recorded now: " + e.Why }

// State tells how the journal does.
func (j *Journal) State(ctx context.Context) (team.JournalState, error) {
	s := team.JournalState{
		Mode: "normal", Recording: true, Lost: j.lost.Load(),
		KeepDays: int(j.o.Keep.Age.Hours() / 24), KeepBytes: j.o.Keep.Size,
	}
	if j.o.Strict {
		s.Mode = "strict"
	}
	if f := j.unable(); f != nil {
		s.Recording, s.Why = false, f.why
		if !f.since.IsZero() {
			s.Since = &f.since
		}
	}
	if j.o.From == nil {
		return s, nil
	}
	var err error
	s.Bytes, err = j.o.From.Size(ctx)
	return s, err
}

// unable returns why nothing can be recorded; nil when it can.
func (j *Journal) unable() *failing {
	if f := j.failing.Load(); f != nil {
		return f
	}
	if j.o.Full() {
		return &failing{why: diskFull, full: true}
	}
	return nil
}

// retryAfter is how long a journal that failed is left alone, until a call tries it
// again.
const retryAfter = time.Second

// Ready reports whether a call that runs now can be recorded. In strict mode one
// that cannot must not run, and the error is an *UnrecordableError; otherwise it
// runs and is counted as lost.
func (j *Journal) Ready() error {
	if !j.o.Strict {
		return nil
	}
	f := j.unable()
	if f == nil || (!f.full && j.o.Now().Sub(f.since) > retryAfter) {
		return nil
	}
	return &UnrecordableError{f.why}
}

// New starts a journal.
func New(ctx context.Context, to Appender, o Options) (*Journal, error) {
	if o.BodyLimit == 0 {
		o.BodyLimit = 2048
	}
	if o.Queue == 0 {
		o.Queue = 4096
	}
	if o.Gather == 0 {
		o.Gather = 100 * time.Millisecond
	}
	if o.Masker == nil {
		o.Masker = func() *mask.Masker { return nil }
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Full == nil {
		o.Full = func() bool { return false }
	}
	last, _, err := to.Around(ctx, segment.LastKey)
	var broken *store.DamagedError
	if errors.As(err, &broken) {
		// What is damaged here keeps nothing else from working; that calls cannot be
		// recorded is found out, and said, by the first of them.
		o.Log.Error("the journal is damaged", "error", err, "hint", "put a copy that bouncer backup wrote in the place of the database")
		last, err = 0, nil
	}
	if err != nil {
		return nil, fmt.Errorf("find the newest record: %w", err)
	}
	j := &Journal{
		o: o, to: to, queue: make(chan *Entry, o.Queue), ended: make(chan struct{}), taps: map[*Tap]struct{}{}, last: last,
		folds: newFolds(o.Now), keeper: keeper{o.Keep, o.From, o.Now}, tidied: make(chan struct{}),
		many: make(chan struct{}, 1), enough: make(chan struct{}, 1), closing: make(chan struct{}),
	}
	ctx = context.WithoutCancel(ctx)
	tidying, stop := context.WithCancel(ctx)
	j.stop = stop
	go j.write(ctx)
	if o.From == nil {
		close(j.tidied)
	} else {
		go j.tidy(tidying)
	}
	return j, nil
}

// Strict reports whether answers wait for their record.
func (j *Journal) Strict() bool { return j.o.Strict }

// Keep returns the part of a body that the journal needs to be handed. It is a
// copy: the caller may reuse b.
func (j *Journal) Keep(b []byte) string {
	n := min(len(b), j.o.BodyLimit+j.o.Masker().Longest()+1024)
	return string(b[:n])
}

// Record hands an entry to the writer. In strict mode it returns when the entry
// is committed, with the error if it could not be.
func (j *Journal) Record(ctx context.Context, e *Entry) error {
	if j.o.Strict {
		e.done = make(chan error, 1)
	}
	j.mu.RLock()
	if j.closed {
		j.mu.RUnlock()
		return ErrClosed
	}
	select {
	case j.queue <- e:
		j.mu.RUnlock()
		j.tellPlenty()
	default:
		// Full: this caller waits, which is the back-pressure that is wanted.
		select {
		case j.queue <- e:
			j.mu.RUnlock()
			j.tellPlenty()
		case <-ctx.Done():
			j.mu.RUnlock()
			return ctx.Err()
		}
	}
	if e.done == nil {
		return nil
	}
	select {
	case err := <-e.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Close writes what is queued and ends the writer.
func (j *Journal) Close() {
	j.mu.Lock()
	if !j.closed {
		j.closed = true
		close(j.queue)
		close(j.closing)
	}
	j.mu.Unlock()
	j.stop()
	<-j.tidied
	<-j.ended
}

func (j *Journal) write(ctx context.Context) {
	defer close(j.ended)
	defer j.untapAll()
	batch := make([]*Entry, 0, maxBatch)
	rows := make([]calls.Record, 0, maxBatch)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for e := range j.queue {
		batch = append(batch[:0], e)
		batch = j.gather(batch, timer)
		rows = rows[:0]
		for _, e := range batch {
			row, again := j.masked(e), false
			if foldable(row.Call) {
				if row, again = j.folds.add(row); again {
					continue
				}
			}
			row.Key = j.nextKey(ctx, e.At)
			row.ID = row.Key.ULID()
			j.folds.keyed(row)
			rows = append(rows, row)
		}
		repeats := j.folds.repeats()
		err := j.append(ctx, rows, repeats)
		for _, e := range batch {
			if e.done != nil {
				e.done <- err
			}
		}
		if err == nil {
			j.publish(append(rows, repeats...))
			j.written(len(rows))
		}
		clear(batch)
		clear(rows)
	}
}

// written counts what was written, and wakes the keeper when it is many.
func (j *Journal) written(n int) {
	if j.since += n; j.since < segment.MaxRecords {
		return
	}
	j.since = 0
	select {
	case j.many <- struct{}{}:
	default: // it is awake
	}
}

// gather adds what is waiting to the batch. When nobody waits for the commit it
// also gives further records a little time to arrive: one commit for many. Meanwhile it does not
// receive, so that a call that is recorded wakes nobody.
func (j *Journal) gather(batch []*Entry, timer *time.Timer) []*Entry {
	if !j.o.Strict {
		timer.Reset(j.o.Gather)
		for waits := true; waits && !j.plenty(); {
			select {
			case <-j.enough: // or there was before
			case <-timer.C:
				waits = false
			case <-j.closing:
				waits = false
			}
		}
	}
	for len(batch) < maxBatch {
		select {
		case e, ok := <-j.queue:
			if !ok {
				return batch
			}
			batch = append(batch, e)
		default:
			return batch
		}
	}
	return batch
}

// plenty reports whether so many records wait that they are to be written now.
func (j *Journal) plenty() bool { return len(j.queue) >= min(maxBatch-1, cap(j.queue)/2) }

// tellPlenty tells the writer when so many wait.
func (j *Journal) tellPlenty() {
	if !j.plenty() {
		return
	}
	select {
	case j.enough <- struct{}{}:
	default: // it was told
	}
}

// append tries a batch a few times: a busy disk is not a reason to lose it. While
// nothing can be written it does not try again and again, so that nobody waits for
// what fails anyway.
func (j *Journal) append(ctx context.Context, rows, repeats []calls.Record) error {
	err := error(&UnrecordableError{diskFull})
	tries := 4
	if j.failing.Load() != nil {
		tries = 2
	}
	full := j.o.Full()
	if full {
		tries = 0
	}
	for try := range tries {
		if try > 0 {
			<-time.After(time.Duration(try) * 200 * time.Millisecond)
		}
		if err = j.to.Append(ctx, rows, repeats...); err == nil {
			if was := j.failing.Swap(nil); was != nil {
				j.o.Log.Warn("calls are recorded again", "lost", j.lost.Load(), "since", was.since)
			}
			return nil
		}
	}
	ran := 0
	for _, row := range rows {
		if row.Decision == team.DecisionAdmit {
			ran++
		}
	}
	lost := j.lost.Add(int64(ran))
	first := full && lost == int64(ran)
	if !full {
		first = j.failing.Swap(&failing{since: j.o.Now(), why: err.Error()}) == nil
	}
	if first || lost%1000 < int64(ran) {
		j.o.Log.Error("calls could not be recorded", "records", len(rows), "lost", lost, "error", err)
	}
	return err
}

// clockSlack is how far the clock may be behind the newest record before it is taken
// to have been set back.
const clockSlack = 2 * time.Second

// nextKey is the key of a record: that of its time, or the next free one. When the
// clock was set back, so are the records, and do not go on in a future that was none.
func (j *Journal) nextKey(ctx context.Context, at time.Time) calls.Key {
	now := j.o.Now()
	if at.After(now.Add(clockSlack)) {
		at = now
	}
	key := j.keyAt(at)
	if key > j.last && (j.above == 0 || key < j.above) {
		j.last = key
		return key
	}
	if next := j.last + 1; (j.above == 0 || next < j.above) && !j.last.Time().After(now.Add(clockSlack)) {
		j.last = next
		return next
	}
	if j.above == 0 {
		j.o.Log.Warn("the clock was set back; records follow it", "newest", j.last.Time(), "now", now)
	}
	return j.amid(ctx, j.keyAt(now))
}

// keyAt is the first key of a millisecond that is this journal's.
func (j *Journal) keyAt(at time.Time) calls.Key { return segment.KeyAt(at) + calls.Key(j.o.Place) }

// amid finds a free key among records that are there already.
func (j *Journal) amid(ctx context.Context, key calls.Key) calls.Key {
	for {
		below, above, err := j.to.Around(ctx, key+1)
		if err != nil {
			// What cannot be looked up goes to the end, which is free.
			j.o.Log.Error("the place of a record could not be found", "error", err)
			j.last++
			return j.last
		}
		if below >= key {
			key = below + 1
		}
		if key != above {
			j.last, j.above = key, above
			return key
		}
		key = above
	}
}

// masked is what is kept of an entry.
func (j *Journal) masked(e *Entry) calls.Record {
	m := j.o.Masker()
	row := calls.Record{Call: e.Call}
	row.Times = max(row.Times, 1)
	var cutArgs, cutReply bool
	row.Arguments, cutArgs = m.Cut(e.Args, j.o.BodyLimit)
	row.Result, cutReply = m.Cut(e.Reply, j.o.BodyLimit)
	row.Error = m.Text(e.Error)
	if e.Decision != team.DecisionAdmit || strings.HasPrefix(e.Tool, "resource:") {
		row.Tool = m.Text(e.Tool) // then the name is whatever the agent made of it
	}
	row.Cut = cutArgs || cutReply || e.BytesIn > len(e.Args) || e.BytesOut > len(e.Reply)
	return row
}

// Tap receives the records that are committed from now on.
type Tap struct {
	// C carries batches. It is closed when the tap falls too far behind, and
	// when the journal ends.
	C    <-chan []team.Call
	c    chan []team.Call
	here bool // without what is only repeated here
}

// Tap opens a tap. Close it with Untap.
func (j *Journal) Tap() *Tap { return j.tap(false) }

// TapHere opens a tap that Repeat does not reach.
func (j *Journal) TapHere() *Tap { return j.tap(true) }

func (j *Journal) tap(here bool) *Tap {
	c := make(chan []team.Call, 64)
	t := &Tap{C: c, c: c, here: here}
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	j.taps[t] = struct{}{}
	return t
}

// Watched reports whether there is a tap that Repeat reaches.
func (j *Journal) Watched() bool {
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	for t := range j.taps {
		if !t.here {
			return true
		}
	}
	return false
}

// Repeat gives taps what was recorded elsewhere.
func (j *Journal) Repeat(list []team.Call) {
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	j.pour(list, func(t *Tap) bool { return !t.here })
}

// Untap ends a tap.
func (j *Journal) Untap(t *Tap) {
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	if _, ok := j.taps[t]; ok {
		delete(j.taps, t)
		close(t.c)
	}
}

func (j *Journal) untapAll() {
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	for t := range j.taps {
		close(t.c)
	}
	clear(j.taps)
}

func (j *Journal) publish(rows []calls.Record) {
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	if len(j.taps) == 0 {
		return
	}
	calls := make([]team.Call, len(rows))
	for i := range rows {
		calls[i] = rows[i].Call
		calls[i].ID, calls[i].Arguments, calls[i].Result = rows[i].Key.ULID(), "", ""
		calls[i].At = rows[i].Key.Time()
		calls[i].Error, calls[i].Cut = rows[i].Error, rows[i].Cut
	}
	j.pour(calls, func(*Tap) bool { return true })
}

// pour gives calls to taps, and closes those that fell too far behind. It is called with the lock held.
func (j *Journal) pour(list []team.Call, to func(*Tap) bool) {
	for t := range j.taps {
		if !to(t) {
			continue
		}
		select {
		case t.c <- list:
		default:
			delete(j.taps, t)
			close(t.c)
		}
	}
}

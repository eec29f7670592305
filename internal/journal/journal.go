// Package journal records every call. Records go through a bounded queue to one
// writer, which commits them in batches. A full queue slows callers down; it
// never drops a record. In strict mode a caller waits until its record is
// committed; otherwise it never waits for the disk.
package journal

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Appender is the part of the store that the journal writes to. It is called
// by one goroutine only.
type Appender interface {
	AppendCalls(ctx context.Context, calls []store.KeyedCall) error
	LastCallKey(ctx context.Context) (store.CallKey, error)
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
}

const maxBatch = 512

// Entry is one call on its way into the journal. The bodies may be longer than
// what is kept, but not by more than Keep asks for.
type Entry struct {
	team.Call
	Args, Reply string
	done        chan error
}

// Journal takes entries and writes them. Close it after the last Record.
type Journal struct {
	o     Options
	to    Appender
	queue chan *Entry
	ended chan struct{}

	mu     sync.RWMutex // guards closed; held for reading while a record is handed over
	closed bool

	tapMu sync.Mutex // apart from mu: the writer must never wait for a caller that waits for it
	taps  map[*Tap]struct{}

	last store.CallKey // owned by the writer
}

// ErrClosed is returned for records after Close.
var ErrClosed = errors.New("the journal is closed")

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
	last, err := to.LastCallKey(ctx)
	if err != nil {
		return nil, err
	}
	j := &Journal{o: o, to: to, queue: make(chan *Entry, o.Queue), ended: make(chan struct{}), taps: map[*Tap]struct{}{}, last: last}
	go j.write(context.WithoutCancel(ctx))
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
	default:
		// Full: this caller waits, which is the back-pressure that is wanted.
		select {
		case j.queue <- e:
			j.mu.RUnlock()
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
	}
	j.mu.Unlock()
	<-j.ended
}

func (j *Journal) write(ctx context.Context) {
	defer close(j.ended)
	defer j.untapAll()
	batch := make([]*Entry, 0, maxBatch)
	rows := make([]store.KeyedCall, 0, maxBatch)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for e := range j.queue {
		batch = append(batch[:0], e)
		batch = j.gather(batch, timer)
		rows = rows[:0]
		for _, e := range batch {
			rows = append(rows, j.row(e))
		}
		err := j.append(ctx, rows)
		for _, e := range batch {
			if e.done != nil {
				e.done <- err
			}
		}
		if err == nil {
			j.publish(rows)
		}
		clear(batch)
		clear(rows)
	}
}

// gather adds what is waiting to the batch. When nobody waits for the commit it
// also gives further records a little time to arrive: one commit for many.
func (j *Journal) gather(batch []*Entry, timer *time.Timer) []*Entry {
	if !j.o.Strict {
		timer.Reset(j.o.Gather)
	}
	for len(batch) < maxBatch {
		if j.o.Strict {
			select {
			case e, ok := <-j.queue:
				if !ok {
					return batch
				}
				batch = append(batch, e)
				continue
			default:
				return batch
			}
		}
		select {
		case e, ok := <-j.queue:
			if !ok {
				return batch
			}
			batch = append(batch, e)
		case <-timer.C:
			return batch
		}
	}
	return batch
}

// append tries a batch a few times: a busy disk is not a reason to lose it.
func (j *Journal) append(ctx context.Context, rows []store.KeyedCall) error {
	var err error
	for try := range 4 {
		if try > 0 {
			<-time.After(time.Duration(try) * 200 * time.Millisecond)
		}
		if err = j.to.AppendCalls(ctx, rows); err == nil {
			return nil
		}
	}
	j.o.Log.Error("journal records could not be written", "records", len(rows), "error", err)
	return err
}

func (j *Journal) row(e *Entry) store.KeyedCall {
	key := store.KeyAt(e.At)
	if key <= j.last {
		key = j.last + 1
	}
	j.last = key
	m := j.o.Masker()
	row := store.KeyedCall{Key: key, Call: e.Call}
	var cutArgs, cutReply bool
	row.Arguments, cutArgs = m.Cut(e.Args, j.o.BodyLimit)
	row.Result, cutReply = m.Cut(e.Reply, j.o.BodyLimit)
	row.Error = m.Text(e.Error)
	if e.Decision != "admit" {
		row.Tool = m.Text(e.Tool) // then the name is whatever the agent made of it
	}
	row.Cut = cutArgs || cutReply || e.BytesIn > len(e.Args) || e.BytesOut > len(e.Reply)
	row.ID = key.ULID()
	return row
}

// Tap receives the records that are committed from now on.
type Tap struct {
	// C carries batches. It is closed when the tap falls too far behind, and
	// when the journal ends.
	C <-chan []team.Call
	c chan []team.Call
}

// Tap opens a tap. Close it with Untap.
func (j *Journal) Tap() *Tap {
	c := make(chan []team.Call, 64)
	t := &Tap{C: c, c: c}
	j.tapMu.Lock()
	defer j.tapMu.Unlock()
	j.taps[t] = struct{}{}
	return t
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

func (j *Journal) publish(rows []store.KeyedCall) {
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
	for t := range j.taps {
		select {
		case t.c <- calls:
		default:
			delete(j.taps, t)
			close(t.c)
		}
	}
}

// Package calls keeps the calls on record: in blocks of many (package segment), each a row
// of the database, and under seals that make a chain. What was written last is read like the
// rest; small blocks are put together to larger ones when there are enough of them.
package calls

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Record is a call with its place in the journal.
type Record = segment.Record

// Key is the order of a call in the journal.
type Key = segment.Key

// Filter selects calls; empty fields select all.
type Filter struct {
	segment.Filter
	Rule  string // id or name of the rule that has to have decided
	Limit int    // of a page; 0 for none
}

// Log reads the calls on record. It is safe for concurrent use.
type Log struct{ part store.Part }

// In returns the calls of a store.
func In(s *store.Store) Log { return Log{s.Part()} }

// Page returns the newest calls that the filter selects, newest first, without arguments and
// results; with After set, the oldest of the newer ones.
func (l Log) Page(ctx context.Context, f Filter) (page []Record, err error) {
	err = l.scan(ctx, f, view{ascending: f.After != 0, names: true}, func(r *Record) bool {
		page = append(page, *r)
		return len(page) != f.Limit
	})
	return page, err
}

// Each goes through the selected calls, the oldest first, without arguments and results.
// They are read as they come, so that any number of them takes little room.
func (l Log) Each(ctx context.Context, f Filter, fn func(*Record)) error {
	return l.scan(ctx, f, view{ascending: true}, func(r *Record) bool {
		fn(r)
		return true
	})
}

// exportedAtOnce is how many calls are read before they are given to whoever exports them.
const exportedAtOnce = 2048

// Export goes through the selected calls in full, the oldest first, until fn fails. However
// slowly fn takes them, nothing is read meanwhile: a transaction that stayed open would keep
// the log of the database from being written in.
func (l Log) Export(ctx context.Context, f Filter, fn func(*Record) error) error {
	for left := f.Limit; ; {
		most := exportedAtOnce
		if f.Limit > 0 {
			most = min(most, left)
		}
		some := make([]Record, 0, most)
		err := l.scan(ctx, f, view{ascending: true, bodies: true, names: true}, func(r *Record) bool {
			some = append(some, *r)
			return len(some) < most
		})
		if err != nil {
			return err
		}
		for i := range some {
			if err := fn(&some[i]); err != nil {
				return err
			}
		}
		if left -= len(some); len(some) < exportedAtOnce || left == 0 {
			return nil
		}
		f.After = some[len(some)-1].Key
	}
}

// Recent gives the newest calls since a time to fn, newest first, with their arguments.
func (l Log) Recent(ctx context.Context, since time.Time, most int, fn func(Record) error) error {
	var failed error
	n := 0
	err := l.scan(ctx, Filter{Filter: segment.Filter{Since: since}}, view{bodies: true, names: true}, func(r *Record) bool {
		failed = fn(*r)
		n++
		return failed == nil && n < most
	})
	return errors.Join(err, failed)
}

// ByKey returns one call in full.
func (l Log) ByKey(ctx context.Context, key Key) (found Record, err error) {
	err = l.scan(ctx, Filter{Filter: segment.Filter{After: key - 1, Before: key + 1}}, view{bodies: true, names: true}, func(r *Record) bool {
		found = *r
		return false
	})
	if err == nil && found.Key == 0 {
		err = store.ErrNotFound
	}
	return found, err
}

// First is when the oldest call on record came in; store.ErrNotFound for none.
func (l Log) First(ctx context.Context) (time.Time, error) {
	var first sql.NullInt64
	err := l.part.View(ctx, func(tx *sql.Tx) error { return tx.QueryRowContext(ctx, `SELECT min(first) FROM segments`).Scan(&first) })
	if err == nil && !first.Valid {
		err = store.ErrNotFound
	}
	return Key(first.Int64).Time(), err
}

// Tool is a tool of a server.
type Tool struct{ Server, Tool string }

// UsedBy counts the calls of each tool that an agent was admitted to since a time.
func (l Log) UsedBy(ctx context.Context, agent string, since time.Time) (map[Tool]int, error) {
	used := map[Tool]int{}
	f := Filter{Filter: segment.Filter{Agent: agent, Decision: team.DecisionAdmit, Since: since}}
	return used, l.Each(ctx, f, func(r *Record) { used[Tool{r.Server, r.Tool}] += r.Times })
}

// HeldBefore returns the newest calls of a tool by an agent since a time that somebody
// decided about.
func (l Log) HeldBefore(ctx context.Context, since time.Time, agent, server, tool string, most int) (page []Record, err error) {
	f := Filter{Filter: segment.Filter{Agent: agent, Server: server, Decision: segment.Held, Since: since}}
	err = l.scan(ctx, f, view{names: true}, func(r *Record) bool {
		if r.Tool == tool && r.Control.By != "" {
			page = append(page, *r)
		}
		return len(page) < most
	})
	return page, err
}

// Counts counts the selected calls in equal steps from f.Since on; steps without calls are
// left out.
func (l Log) Counts(ctx context.Context, f Filter, step time.Duration) ([]team.Bucket, error) {
	if step < time.Second {
		return nil, fmt.Errorf("a step of %v is too short", step)
	}
	steps := map[int64]*team.Bucket{}
	from := f.Since.UnixMilli()
	err := l.Each(ctx, f, func(r *Record) {
		at := (int64(r.Key)>>16 - from) / step.Milliseconds()
		b := steps[at]
		if b == nil {
			b = &team.Bucket{At: time.UnixMilli(from + at*step.Milliseconds()).UTC()}
			steps[at] = b
		}
		switch r.Outcome {
		case team.OutcomeOK:
			b.OK++
		case team.OutcomeRefused:
			b.Refused += r.Times
		default:
			b.Failed++
		}
	})
	list := make([]team.Bucket, 0, len(steps))
	for _, b := range steps {
		list = append(list, *b)
	}
	slices.SortFunc(list, func(a, b team.Bucket) int { return a.At.Compare(b.At) })
	return list, err
}

// Count counts the selected calls, the newest first, and tells how far it is, about as often
// as another block is done: how many there are, and of how many that were looked at.
func (l Log) Count(ctx context.Context, f Filter, told func(found, seen int) bool) (found int, err error) {
	seen := 0
	v := view{
		whole:  func(records int) { found, seen = found+records, seen+records },
		passed: func(records int) bool { seen += records; return told == nil || told(found, seen) },
	}
	err = l.scan(ctx, f, v, func(*Record) bool { found++; return true })
	return found, err
}

// Size is how many bytes of the database are in use. What was removed is used again
// before the file grows.
func (l Log) Size(ctx context.Context) (int64, error) {
	var pages, free, size int64
	err := l.part.View(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT p.page_count, f.freelist_count, s.page_size
			FROM pragma_page_count p, pragma_freelist_count f, pragma_page_size s`).Scan(&pages, &free, &size)
	})
	return (pages - free) * size, err
}

package calls

import (
	"container/heap"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"bouncer/internal/core/segment"
	"bouncer/internal/store"
)

// view is what is wanted of the calls that a filter selects.
type view struct {
	ascending bool // the oldest first
	bodies    bool // with arguments and results
	names     bool // with their ids, and the names of rules
	// whole is told of blocks that are selected as a whole, instead of their calls; nil for
	// not at all. passed is told how many calls were gone through, and may end it.
	whole  func(records int)
	passed func(records int) (more bool)
}

// block is a row of segments, and what was read of it.
type block struct {
	id, low     int64
	first, last Key
	records     int
	facts       []byte
	whole       bool // all its calls are selected, and only their number is wanted
	skip        bool // none can be
	head, body  []byte
	selected    []Record
	places      []int // of the selected, in the block
}

// batch is how many blocks are looked at in one go.
const batch = 64

// scan gives the selected calls to fn in the order of their keys, until it returns false.
// Blocks whose keys overlap, as they do after the clock was set back, are read side by side.
func (l Log) scan(ctx context.Context, f Filter, v view, fn func(*Record) bool) error {
	return l.part.View(ctx, func(tx *sql.Tx) error {
		s := &scanner{ctx: ctx, tx: tx, f: &f.Filter, view: v, fn: fn, names: map[string]string{}}
		defer s.close()
		if err := s.prepare(f.Rule); err != nil {
			return err
		}
		return s.run()
	})
}

// scanner is one pass over the calls.
type scanner struct {
	ctx     context.Context
	tx      *sql.Tx
	f       *segment.Filter
	view    view
	fn      func(*Record) bool
	names   map[string]string // of rules, by id
	repeats map[Key]int
	open    cursors
	ended   bool

	heads, bodies *sql.Stmt // by the id of a block
	letters       *sql.Stmt // by the first and last of some
}

// prepare reads what is needed for every block.
func (s *scanner) prepare(rule string) error {
	s.open.ascending = s.view.ascending
	if rule != "" {
		s.f.Rules = []string{rule}
		var id string
		err := s.tx.QueryRowContext(s.ctx, `SELECT id FROM rules WHERE name = ?`, rule).Scan(&id)
		if err == nil {
			s.f.Rules = append(s.f.Rules, id)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
	}
	for _, q := range [...]struct {
		to    **sql.Stmt
		query string
	}{
		{&s.heads, `SELECT head FROM segments WHERE id = ?`}, {&s.bodies, `SELECT body FROM segments WHERE id = ?`},
		{&s.letters, `SELECT id, words FROM letters WHERE id BETWEEN ? AND ?`},
	} {
		statement, err := s.tx.PrepareContext(s.ctx, q.query) //nolint:sqlclosecheck // close does
		if err != nil {
			return err
		}
		*q.to = statement
	}
	var err error
	s.repeats, err = readRepeats(s.ctx, s.tx)
	return err
}

// close ends the statements.
func (s *scanner) close() {
	for _, statement := range [...]*sql.Stmt{s.heads, s.bodies, s.letters} {
		if statement != nil {
			_ = statement.Close() // which ends with the transaction anyway
		}
	}
}

// run goes from block to block, more of them at a time the longer it takes: for a first page
// one is often enough, and of many each core takes some.
func (s *scanner) run() error {
	next := s.blocks()
	for window := 1; ; {
		list, err := next()
		if err != nil {
			return err
		}
		last := len(list) < batch
		for len(list) > 0 {
			some := list[:min(window, len(list))]
			list = list[len(some):]
			window = min(2*window, batch/2)
			if err := s.load(some); err != nil {
				return err
			}
			for i := range some {
				if err := s.emit(&some[i]); err != nil || s.ended {
					return err
				}
				s.take(&some[i])
				if s.ended {
					return nil
				}
			}
		}
		if last {
			return s.emit(nil)
		}
	}
}

// blocks reads the rows of blocks within the range, in their order, many at a time.
func (s *scanner) blocks() func() ([]block, error) {
	from, to := s.f.Range()
	where, order := "(last, id) < (?, ?)", "last DESC, id DESC"
	at, id := int64(segment.LastKey), int64(1<<62)
	if s.view.ascending {
		where, order = "(first, id) > (?, ?)", "first, id"
		at, id = -1, -1
	}
	query := `SELECT id, low, first, last, records, facts FROM segments
		WHERE last >= ? AND first <= ? AND ` + where + ` ORDER BY ` + order + fmt.Sprintf(" LIMIT %d", batch)
	return func() ([]block, error) {
		rows, err := s.tx.QueryContext(s.ctx, query, int64(from), int64(to), at, id)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		var list []block
		for rows.Next() {
			var b block
			if err := rows.Scan(&b.id, &b.low, &b.first, &b.last, &b.records, &b.facts); err != nil {
				return nil, err
			}
			list = append(list, b)
		}
		if n := len(list); n > 0 {
			id, at = list[n-1].id, int64(list[n-1].last)
			if s.view.ascending {
				at = int64(list[n-1].first)
			}
		}
		return list, rows.Err()
	}
}

// load reads what is selected of blocks. The database is read by one, what was read is
// looked through by as many as there are cores.
func (s *scanner) load(list []block) error {
	from, to := s.f.Range()
	for i := range list {
		b := &list[i]
		b.whole = s.view.whole != nil && s.f.All() && b.first >= from && b.last <= to
		b.skip = b.whole || s.f.Skips(segment.ReadFacts(b.facts))
	}
	if err := s.passOver(list); err != nil {
		return err
	}
	for i := range list {
		if b := &list[i]; !b.skip {
			if err := s.heads.QueryRowContext(s.ctx, b.id).Scan(&b.head); err != nil {
				return fmt.Errorf("read a block of calls: %w", err)
			}
		}
	}
	err := side(list, func(b *block) (err error) {
		if b.skip {
			return nil
		}
		head, err := segment.OpenHead(b.head, b.low)
		if err == nil {
			b.selected, b.places, err = head.Select(s.f)
		}
		return damaged(err)
	})
	if err != nil || !s.view.bodies && s.f.Text == "" {
		return err
	}
	for i := range list {
		if b := &list[i]; len(b.selected) > 0 {
			if err := s.bodies.QueryRowContext(s.ctx, b.id).Scan(&b.body); err != nil {
				return fmt.Errorf("read the texts of calls: %w", err)
			}
		}
	}
	return side(list, func(b *block) error {
		if len(b.selected) == 0 {
			return nil
		}
		if err := segment.ReadBodyAt(b.body, b.selected, b.places); err != nil {
			return damaged(err)
		}
		if s.f.Text != "" {
			find := segment.NewFinder(s.f.Text)
			b.selected = slices.DeleteFunc(b.selected, func(r Record) bool { return !find.In(&r) })
		}
		return nil
	})
}

// side does something with blocks side by side.
func side(list []block, fn func(*block) error) error {
	if len(list) == 1 {
		return fn(&list[0])
	}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i := range list {
		group.Go(func() error { return fn(&list[i]) })
	}
	return group.Wait()
}

// take adds a block to those that are read side by side, or counts it.
func (s *scanner) take(b *block) {
	if b.whole {
		s.view.whole(b.records)
		b.records = 0
	}
	for i := range b.selected {
		r := &b.selected[i]
		if times, known := s.repeats[r.Key]; known {
			r.Times = times
		}
		if !s.view.bodies {
			r.Arguments, r.Result = "", ""
		}
	}
	if len(b.selected) > 0 {
		if !s.view.ascending {
			slices.Reverse(b.selected)
		}
		heap.Push(&s.open, &cursor{b.selected})
	}
	if s.view.passed != nil && !s.view.passed(b.records) {
		s.ended = true
	}
	b.head, b.body = nil, nil
}

// passOver marks the blocks in which the text that is looked for cannot be. Blocks that
// follow each other are mostly neighbours in the table, and read in one go.
func (s *scanner) passOver(list []block) error {
	byID := map[int64]*block{}
	low, high := int64(math.MaxInt64), int64(0)
	for i := range list {
		if b := &list[i]; s.f.Text != "" && !b.skip {
			byID[b.id] = b
			low, high = min(low, b.id), max(high, b.id)
		}
	}
	look := func(low, high int64) error {
		rows, err := s.letters.QueryContext(s.ctx, low, high)
		if err != nil {
			return fmt.Errorf("read which letters blocks have: %w", err)
		}
		defer rows.Close()
		for rows.Next() {
			var id int64
			var words sql.RawBytes
			if err := rows.Scan(&id, &words); err != nil {
				return fmt.Errorf("read which letters a block has: %w", err)
			}
			if b := byID[id]; b != nil {
				b.skip = !segment.MayContain(words, s.f.Text)
			}
		}
		return rows.Err()
	}
	if len(byID) > 0 && high-low < int64(2*len(byID)+2) {
		return look(low, high)
	}
	for id := range byID {
		if err := look(id, id); err != nil {
			return err
		}
	}
	return nil
}

// emit gives what comes before a block to fn; all there is for none.
func (s *scanner) emit(before *block) error {
	for !s.ended && len(s.open.list) > 0 {
		c := s.open.list[0]
		r := &c.records[0]
		if before != nil && (s.view.ascending && r.Key >= before.first || !s.view.ascending && r.Key <= before.last) {
			return nil
		}
		if s.view.names {
			if err := s.name(r); err != nil {
				return err
			}
		}
		if !s.fn(r) {
			s.ended = true
			return nil
		}
		if c.records = c.records[1:]; len(c.records) == 0 {
			heap.Pop(&s.open)
		} else {
			heap.Fix(&s.open, 0)
		}
	}
	return s.ctx.Err()
}

// name adds the id of a call and the name of its rule.
func (s *scanner) name(r *Record) error {
	r.ID = r.Key.ULID()
	if r.Rule == "" {
		return nil
	}
	name, known := s.names[r.Rule]
	if !known {
		err := s.tx.QueryRowContext(s.ctx, `SELECT name FROM rules WHERE id = ?`, r.Rule).Scan(&name)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		s.names[r.Rule] = name
	}
	r.RuleName = name
	return nil
}

// cursor is a block that is being read.
type cursor struct{ records []Record }

// cursors are those under way; the first has the next call.
type cursors struct {
	list      []*cursor
	ascending bool
}

func (c *cursors) Len() int { return len(c.list) }
func (c *cursors) Less(i, j int) bool {
	if c.ascending {
		return c.list[i].records[0].Key < c.list[j].records[0].Key
	}
	return c.list[i].records[0].Key > c.list[j].records[0].Key
}
func (c *cursors) Swap(i, j int) { c.list[i], c.list[j] = c.list[j], c.list[i] }

// Push is for package heap.
func (c *cursors) Push(x any) {
	one, _ := x.(*cursor)
	c.list = append(c.list, one)
}

// Pop is for package heap.
func (c *cursors) Pop() any {
	last := c.list[len(c.list)-1]
	c.list = c.list[:len(c.list)-1]
	return last
}

func readHead(ctx context.Context, tx *sql.Tx, id, low int64) ([]Record, error) {
	var head []byte
	if err := tx.QueryRowContext(ctx, `SELECT head FROM segments WHERE id = ?`, id).Scan(&head); err != nil {
		return nil, fmt.Errorf("read a block of calls: %w", err)
	}
	records, err := segment.ReadHead(head, low)
	return records, damaged(err)
}

func damaged(err error) error {
	if errors.Is(err, segment.ErrDamaged) {
		return store.Damage("segments", err)
	}
	return err
}

// readRepeats reads how often refusals were repeated that are in blocks already.
func readRepeats(ctx context.Context, tx *sql.Tx) (map[Key]int, error) {
	rows, err := tx.QueryContext(ctx, `SELECT id, times FROM repeats`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[Key]int{}
	for rows.Next() {
		var key Key
		var times int
		if err := rows.Scan(&key, &times); err != nil {
			return nil, err
		}
		out[key] = times
	}
	return out, rows.Err()
}

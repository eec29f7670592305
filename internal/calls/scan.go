package calls

import (
	"container/heap"
	"context"
	"database/sql"
	"errors"
	"fmt"

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

// block is a row of segments, as far as it is needed to pass over it.
type block struct {
	id, low      int64
	first, last  Key
	records      int
	facts, words []byte
}

// batch is how many blocks are looked at in one go.
const batch = 64

// scan gives the selected calls to fn in the order of their keys, until it returns false.
// Blocks whose keys overlap, as they do after the clock was set back, are read side by side.
func (l Log) scan(ctx context.Context, f Filter, v view, fn func(*Record) bool) error {
	return l.part.View(ctx, func(tx *sql.Tx) error {
		s := &scanner{ctx: ctx, tx: tx, f: &f.Filter, view: v, fn: fn, names: map[string]string{}}
		if f.Text != "" {
			s.finder = segment.NewFinder(f.Text)
		}
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
	finder  *segment.Finder
	view    view
	fn      func(*Record) bool
	names   map[string]string // of rules, by id
	repeats map[Key]int
	open    cursors
	ended   bool
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
	var err error
	s.repeats, err = readRepeats(s.ctx, s.tx)
	return err
}

// run goes from block to block.
func (s *scanner) run() error {
	next := s.blocks()
	for {
		list, err := next()
		if err != nil {
			return err
		}
		for _, b := range list {
			if err := s.emit(&b); err != nil || s.ended {
				return err
			}
			if err := s.take(b); err != nil || s.ended {
				return err
			}
		}
		if len(list) < batch {
			return s.emit(nil)
		}
	}
}

// blocks reads the rows of blocks within the range, in their order, many at a time.
func (s *scanner) blocks() func() ([]block, error) {
	from, to := s.f.Range()
	words := "NULL"
	if s.f.Text != "" {
		words = "words"
	}
	where, order := "(last, id) < (?, ?)", "last DESC, id DESC"
	at, id := int64(segment.LastKey), int64(1<<62)
	if s.view.ascending {
		where, order = "(first, id) > (?, ?)", "first, id"
		at, id = -1, -1
	}
	query := `SELECT id, low, first, last, records, facts, ` + words + ` FROM segments
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
			if err := rows.Scan(&b.id, &b.low, &b.first, &b.last, &b.records, &b.facts, &b.words); err != nil {
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

// take opens a block, or passes over it.
func (s *scanner) take(b block) error {
	from, to := s.f.Range()
	switch {
	case s.f.Skips(segment.ReadFacts(b.facts)) || s.f.Text != "" && !segment.MayContain(b.words, s.f.Text):
	case s.view.whole != nil && s.f.All() && b.first >= from && b.last <= to:
		s.view.whole(b.records)
		b.records = 0
	default:
		records, err := s.selected(b, from, to)
		if err != nil {
			return err
		}
		if len(records) > 0 {
			heap.Push(&s.open, &cursor{records})
		}
	}
	if s.view.passed != nil && !s.view.passed(b.records) {
		s.ended = true
	}
	return nil
}

// selected are the calls of a block that the filter selects, in the order of the pass.
func (s *scanner) selected(b block, from, to Key) ([]Record, error) {
	records, err := readHead(s.ctx, s.tx, b.id, b.low)
	if err != nil {
		return nil, err
	}
	n := 0
	for i := range records {
		if r := &records[i]; r.Key >= from && r.Key <= to && s.f.Match(r) {
			n++
		}
	}
	if n == 0 {
		return nil, nil
	}
	if s.view.bodies || s.finder != nil {
		if err := readBody(s.ctx, s.tx, b.id, records); err != nil {
			return nil, err
		}
	}
	out := records[:0]
	for i := range records {
		r := records[i]
		if r.Key < from || r.Key > to || !s.f.Match(&r) || s.finder != nil && !s.finder.In(&r) {
			continue
		}
		if times, known := s.repeats[r.Key]; known {
			r.Times = times
		}
		if !s.view.bodies {
			r.Arguments, r.Result = "", ""
		}
		out = append(out, r)
	}
	if !s.view.ascending {
		for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
			out[i], out[j] = out[j], out[i]
		}
	}
	return out, nil
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

func readBody(ctx context.Context, tx *sql.Tx, id int64, records []Record) error {
	var body []byte
	if err := tx.QueryRowContext(ctx, `SELECT body FROM segments WHERE id = ?`, id).Scan(&body); err != nil {
		return fmt.Errorf("read the texts of calls: %w", err)
	}
	return damaged(segment.ReadBody(body, records))
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

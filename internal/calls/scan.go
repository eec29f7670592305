package calls

import (
	"container/heap"
	"context"
	"database/sql"
	"errors"
	"fmt"
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
	whole       bool // all its calls are selected, and only their number is wanted
	skip        bool // none can be
	ruled       segment.Ruled
	kept, body  []byte
	head        *segment.Head
	places      []int // in the block, of those that are selected
	selected    []Record
}

// How many blocks are asked after in one go, from first to last, and how many of those that may
// have something are looked through in one go.
const (
	fewBlocks, manyBlocks = 8, 512
	lookedThrough         = 32
)

// scan gives the selected calls to fn in the order of their keys, until it returns false.
// Blocks whose keys overlap, as they do after the clock was set back, are read side by side.
func (l Log) scan(ctx context.Context, f Filter, v view, fn func(*Record) bool) error {
	return l.part.View(ctx, func(tx *sql.Tx) error {
		s := &scanner{ctx: ctx, tx: tx, f: &f.Filter, view: v, fn: fn, names: map[string]string{}}
		defer s.close()
		if err := s.prepare(f.Rule); err != nil {
			return err
		}
		if s.passer.idle() {
			return s.run()
		}
		if err := s.passer.over(ctx, tx); err != nil {
			return err
		}
		return l.part.Beside(ctx, func(tx *sql.Tx) error {
			if err := s.passer.over(ctx, tx); err != nil {
				return err
			}
			return s.run()
		})
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
	passer  *passer
	finders []*segment.Finder // of a text, one for each core

	rows, heads, bodies *sql.Stmt // in their order; by the id of a block
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
	s.passer = newPasser(s.f)
	for range runtime.GOMAXPROCS(0) {
		s.finders = append(s.finders, segment.NewFinder(s.f.Text))
	}
	where, order := "(last, id) < (?, ?)", "last DESC, id DESC"
	if s.view.ascending {
		where, order = "(first, id) > (?, ?)", "first, id"
	}
	for _, q := range [...]struct {
		to    **sql.Stmt
		query string
	}{
		{&s.rows, `SELECT id, low, first, last, records FROM segments WHERE last >= ? AND first <= ? AND ` + where + ` ORDER BY ` + order + ` LIMIT ?`},
		{&s.heads, `SELECT head FROM segments WHERE id = ?`}, {&s.bodies, `SELECT body FROM segments WHERE id = ?`},
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
	if s.passer != nil {
		s.passer.close()
	}
	for _, statement := range [...]*sql.Stmt{s.rows, s.heads, s.bodies} {
		if statement != nil {
			_ = statement.Close() // which ends with the transaction anyway
		}
	}
}

// run goes from block to block, more of them at a time the longer it takes: for a first page
// one is often enough, and of many each core takes some, while the next are read.
func (s *scanner) run() error {
	next := s.windows()
	var ready *window // read, and being looked through
	for {
		list, err := next()
		if err == nil && len(list) > 0 {
			err = s.read(list)
		}
		if err != nil {
			if ready != nil {
				_ = ready.looking.Wait()
			}
			return err
		}
		if ready != nil {
			if err := s.finish(ready); err != nil || s.ended {
				return err
			}
		}
		if len(list) == 0 {
			return s.emit(nil)
		}
		ready = s.look(list)
		if len(list) == 1 { // which is often all that a page needs
			if err := s.finish(ready); err != nil || s.ended {
				return err
			}
			ready = nil
		}
	}
}

// windows cuts what blocks gives into pieces, of which each has more blocks that may have
// something than the one before.
func (s *scanner) windows() func() ([]block, error) {
	next, size, asked, last := s.blocks(), 1, fewBlocks, false
	var list []block
	return func() (some []block, err error) {
		if len(list) == 0 && !last {
			if list, err = next(asked); err == nil {
				err = s.passOver(list)
			}
			if err != nil {
				return nil, err
			}
			last = len(list) < asked
			asked = min(4*asked, manyBlocks)
		}
		n := 0
		for may := 0; n < len(list) && may < size; n++ {
			if !list[n].skip {
				may++
			}
		}
		some, list = list[:n], list[n:]
		size = min(2*size, lookedThrough)
		return some, nil
	}
}

// passOver marks the blocks that need not be looked through.
func (s *scanner) passOver(list []block) error {
	from, to := s.f.Range()
	for i := range list {
		b := &list[i]
		b.whole = s.view.whole != nil && s.f.All() && b.first >= from && b.last <= to
		b.skip = b.whole
	}
	return s.passer.mark(list)
}

// window is some blocks that are being looked through.
type window struct {
	blocks  []block
	looking *errgroup.Group
}

// look begins to look through the heads of blocks.
func (s *scanner) look(list []block) *window {
	w := &window{list, side(list, func(_ int, b *block) (err error) {
		if b.skip {
			return nil
		}
		if b.head, err = segment.OpenHead(b.kept, b.low); err != nil {
			return damaged(err)
		}
		if b.places, err = b.head.Choose(s.f); err == nil && s.f.Text == "" {
			b.selected, err = b.head.Records(b.places)
		}
		return damaged(err)
	})}
	return w
}

// finish waits for blocks to be looked through, reads their texts and gives on what is selected.
func (s *scanner) finish(w *window) error {
	if err := w.looking.Wait(); err != nil {
		return err
	}
	if err := s.texts(w.blocks); err != nil {
		return err
	}
	for i := range w.blocks {
		if err := s.emit(&w.blocks[i]); err != nil || s.ended {
			return err
		}
		s.take(&w.blocks[i])
		if s.ended {
			return nil
		}
	}
	return nil
}

// blocks reads the rows of blocks within the range, in their order, so many at a time.
func (s *scanner) blocks() func(most int) ([]block, error) {
	from, to := s.f.Range()
	at, id := int64(segment.LastKey), int64(1<<62)
	if s.view.ascending {
		at, id = -1, -1
	}
	return func(most int) ([]block, error) {
		rows, err := s.rows.QueryContext(s.ctx, int64(from), int64(to), at, id, most)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		list := make([]block, 0, most)
		for rows.Next() {
			var b block
			if err := rows.Scan(&b.id, &b.low, &b.first, &b.last, &b.records); err != nil {
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

// read reads the heads of blocks that may have what is selected.
func (s *scanner) read(list []block) error {
	for i := range list {
		if b := &list[i]; !b.skip {
			if err := s.heads.QueryRowContext(s.ctx, b.id).Scan(&b.kept); err != nil {
				return fmt.Errorf("read a block of calls: %w", err)
			}
		}
	}
	return nil
}

// texts reads the arguments and results of what is selected, where they are asked for, and
// lets go what a text is looked for in and not found.
func (s *scanner) texts(list []block) error {
	if !s.view.bodies && s.f.Text == "" {
		return nil
	}
	for i := range list {
		if b := &list[i]; len(b.places) > 0 {
			if err := s.bodies.QueryRowContext(s.ctx, b.id).Scan(&b.body); err != nil {
				return fmt.Errorf("read the texts of calls: %w", err)
			}
		}
	}
	return side(list, func(share int, b *block) error {
		if len(b.places) == 0 {
			return nil
		}
		body, err := segment.OpenBody(b.body)
		if err == nil && s.f.Text != "" {
			if b.places, err = s.finders[share].Among(b.head, body, b.places); err == nil {
				b.selected, err = b.head.Records(b.places)
			}
		}
		if err == nil && s.view.bodies {
			err = body.Add(b.selected, b.places)
		}
		return damaged(err)
	}).Wait()
}

// side begins to do something with blocks side by side: the database is read by one, what
// was read is looked through by as many as there are cores.
func side(list []block, fn func(share int, b *block) error) *errgroup.Group {
	var group errgroup.Group
	shares := min(runtime.GOMAXPROCS(0), len(list))
	for share := range shares {
		group.Go(func() error {
			for i := share; i < len(list); i += shares {
				if err := fn(share, &list[i]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return &group
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
	b.kept, b.head, b.body = nil, nil, nil
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

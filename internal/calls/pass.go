package calls

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"bouncer/internal/core/segment"
)

// passer marks the blocks in which nothing that a filter selects can be, by what is kept of them
// for the purpose. It reads over two connections, half of the blocks over each, because that is
// most of what a search for something rare takes. Blocks that are closed stay what they are, so
// that it does no harm when the second connection sees a later state.
type passer struct {
	filter  *segment.Filter
	letters segment.Letters
	parts   []int
	lanes   []lane
}

// lane is one of the connections: what is kept of blocks with ids in a range.
type lane struct {
	ctx     context.Context
	facts   *sql.Stmt
	letters []*sql.Stmt // one for each part that has a say
}

// newPasser returns a passer for a filter, without a connection yet.
func newPasser(f *segment.Filter) *passer {
	p := &passer{filter: f, letters: segment.LettersOf(f.Text)}
	p.parts = p.letters.Parts()
	return p
}

// idle reports whether there is nothing by which a block could be passed over.
func (p *passer) idle() bool { return len(p.parts) == 0 && !p.filter.Named() }

// lettersOf and lettersIn read and write each part of the letters of blocks.
var lettersOf, lettersIn = func() (read, write [segment.LetterParts]string) {
	for part := range read {
		read[part] = fmt.Sprintf("SELECT id, bits FROM letters_%d WHERE id BETWEEN ? AND ?", part)
		write[part] = fmt.Sprintf("INSERT INTO letters_%d (id, bits) VALUES (?, ?)", part)
	}
	return read, write
}()

// over adds a connection.
func (p *passer) over(ctx context.Context, tx *sql.Tx) error {
	l := lane{ctx: ctx}
	var err error
	if l.facts, err = tx.PrepareContext(ctx, `SELECT id, facts FROM segments WHERE id BETWEEN ? AND ?`); err != nil {
		return err
	}
	for _, part := range p.parts {
		statement, err := tx.PrepareContext(ctx, lettersOf[part]) //nolint:sqlclosecheck // close does
		if err != nil {
			return errors.Join(err, l.close())
		}
		l.letters = append(l.letters, statement)
	}
	p.lanes = append(p.lanes, l)
	return nil
}

// close ends the statements.
func (l lane) close() error {
	err := l.facts.Close()
	for _, statement := range l.letters {
		err = errors.Join(err, statement.Close())
	}
	return err
}

// close ends the statements.
func (p *passer) close() {
	for _, l := range p.lanes {
		_ = l.close() // which the transaction does anyway
	}
}

// mark marks blocks.
func (p *passer) mark(list []block) error {
	if len(p.lanes) == 0 {
		return nil
	}
	open := make([]*block, 0, len(list))
	for i := range list {
		if !list[i].skip {
			open = append(open, &list[i])
		}
	}
	slices.SortFunc(open, func(a, b *block) int { return cmp.Compare(a.id, b.id) })
	var group errgroup.Group
	each := (len(open) + len(p.lanes) - 1) / len(p.lanes)
	for _, l := range p.lanes {
		some := open[:min(each, len(open))]
		open = open[len(some):]
		group.Go(func() error { return p.markOver(l, some) })
	}
	return group.Wait()
}

// markOver marks blocks, which are in the order of their ids, over one connection.
func (p *passer) markOver(l lane, some []*block) error {
	if p.filter.Named() {
		err := l.read(l.facts, some, func(b *block, facts []byte) { b.skip = p.filter.Skips(segment.ReadFacts(facts)) })
		if err != nil {
			return fmt.Errorf("read which names blocks have: %w", err)
		}
	}
	for i, part := range p.parts {
		some = slices.DeleteFunc(some, func(b *block) bool { return b.skip })
		err := l.read(l.letters[i], some, func(b *block, bits []byte) {
			b.ruled.Read(p.letters, part, bits)
			b.skip = b.ruled.Out()
		})
		if err != nil {
			return fmt.Errorf("read which letters blocks have: %w", err)
		}
	}
	return nil
}

// apart is how many rows of others are rather read than another query made.
const apart = 8

// read gives what is kept of blocks to fn, which keeps none of it. Blocks that follow each
// other are mostly neighbours in the table, and read in one go.
func (l lane) read(query *sql.Stmt, some []*block, fn func(*block, []byte)) error {
	for len(some) > 0 {
		n := 1
		for n < len(some) && some[n].id-some[n-1].id <= apart {
			n++
		}
		if err := l.readRange(query, some[:n], fn); err != nil {
			return err
		}
		some = some[n:]
	}
	return nil
}

func (l lane) readRange(query *sql.Stmt, some []*block, fn func(*block, []byte)) error {
	rows, err := query.QueryContext(l.ctx, some[0].id, some[len(some)-1].id)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var kept sql.RawBytes
		if err := rows.Scan(&id, &kept); err != nil {
			return err
		}
		for len(some) > 0 && some[0].id < id {
			some = some[1:]
		}
		if len(some) > 0 && some[0].id == id {
			fn(some[0], kept)
		}
	}
	return rows.Err()
}

package calls

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/core/segment"
)

// How long small blocks are left as they are, and how long a refusal can repeat until its
// count is final.
const (
	openFor   = 24 * time.Hour
	repeatFor = 2 * time.Minute
)

// mergedAtOnce is how many small blocks are read to be put together.
const mergedAtOnce = 4096

// Merge puts small blocks together where they make a whole one, are followed by one, or are
// a day old, and writes counts of repetition into their blocks. It returns how many blocks it
// made.
func (w *Writer) Merge(ctx context.Context, now time.Time) (made int, err error) {
	for {
		run, err := w.small(ctx)
		if err != nil {
			return made, fmt.Errorf("read small blocks of calls: %w", err)
		}
		if len(run.calls) == 0 || !run.full && run.calls[0].Key.Time().After(now.Add(-openFor)) {
			break
		}
		if err := w.replace(ctx, run.ids, run.calls); err != nil {
			return made, err
		}
		made++
	}
	return made, w.settle(ctx, segment.KeyAt(now.Add(-repeatFor)))
}

// smallBlocks are blocks that follow each other in the chain.
type smallBlocks struct {
	ids   []int64
	calls []Record
	full  bool // nothing can be added
}

// small are the oldest blocks that are not closed, as many as make a whole one, with their
// calls.
func (w *Writer) small(ctx context.Context) (run smallBlocks, err error) {
	err = w.part.View(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, `SELECT id, closed, low, head, iif(closed, NULL, body) FROM segments
			WHERE low >= (SELECT min(low) FROM segments WHERE closed = 0) ORDER BY low, id LIMIT ?`, mergedAtOnce)
		if err != nil {
			return err
		}
		defer rows.Close()
		size := 0
		for rows.Next() {
			var id, low int64
			var closed bool
			var head, body []byte
			if err := rows.Scan(&id, &closed, &low, &head, &body); err != nil {
				return err
			}
			if closed {
				run.full = true
				break
			}
			records, err := segment.ReadHead(head, low)
			if err == nil {
				err = segment.ReadBody(body, records)
			}
			if err != nil {
				return damaged(err)
			}
			run.ids, run.calls, size = append(run.ids, id), append(run.calls, records...), size+segment.Size(records)
			if run.full = len(run.calls) >= segment.MaxRecords || size >= segment.MaxBytes || len(run.ids) == mergedAtOnce; run.full {
				break
			}
		}
		return rows.Err()
	})
	run.calls = segment.Sorted(run.calls)
	return run, err
}

// errMeanwhile is returned when blocks were removed while they were put together.
var errMeanwhile = errors.New("blocks of calls were removed meanwhile")

// replace puts one closed block in the place of others.
func (w *Writer) replace(ctx context.Context, ids []int64, calls []Record) error {
	s := segment.Write(calls, true)
	err := w.part.Alter(ctx, func(tx *sql.Tx) error {
		for _, id := range ids {
			res, err := tx.ExecContext(ctx, `DELETE FROM segments WHERE id = ? AND closed = 0`, id)
			if err != nil {
				return err
			}
			if n, err := res.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, errMeanwhile)
			}
		}
		return insert(ctx, tx, s)
	})
	if err != nil && !errors.Is(err, errMeanwhile) {
		return fmt.Errorf("put small blocks of calls together: %w", err)
	}
	return nil
}

// settle writes counts of repetition that are final into the blocks of their calls.
func (w *Writer) settle(ctx context.Context, before Key) error {
	return w.part.Alter(ctx, func(tx *sql.Tx) error {
		all, err := readRepeats(ctx, tx)
		if err != nil {
			return err
		}
		for key := range all {
			if key >= before {
				delete(all, key)
			}
		}
		for len(all) > 0 {
			if err := settleBlock(ctx, tx, all); err != nil {
				return fmt.Errorf("write how often refusals were repeated: %w", err)
			}
		}
		return nil
	})
}

// settleBlock writes the counts of one of the keys, and of those in the same block, and takes
// them off the list. Those whose call was removed go too.
func settleBlock(ctx context.Context, tx *sql.Tx, all map[Key]int) error {
	var any Key
	for any = range all {
		break
	}
	var id, low, first, last int64
	var closed bool
	var head []byte
	found := false
	rows, err := tx.QueryContext(ctx, `SELECT id, closed, low, first, last, head FROM segments WHERE last >= ?1 AND first <= ?1`, int64(any))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() && !found {
		if err := rows.Scan(&id, &closed, &low, &first, &last, &head); err != nil {
			return err
		}
		records, err := segment.ReadHead(head, low)
		if err != nil {
			return damaged(err)
		}
		found = slices.ContainsFunc(records, func(r Record) bool { return r.Key == any })
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	done := []Key{any}
	if found {
		changed, facts, err := segment.WithTimes(head, closed, all)
		if err != nil {
			return damaged(err)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE segments SET head = ?, facts = ? WHERE id = ?`, changed, facts, id); err != nil {
			return err
		}
		records, err := segment.ReadHead(head, low)
		if err != nil {
			return damaged(err)
		}
		for i := range records {
			if _, known := all[records[i].Key]; known && records[i].Key != any {
				done = append(done, records[i].Key)
			}
		}
	}
	for _, key := range done {
		delete(all, key)
		if _, err := tx.ExecContext(ctx, `DELETE FROM repeats WHERE id = ?`, int64(key)); err != nil {
			return err
		}
	}
	return nil
}

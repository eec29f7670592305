package calls

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"bouncer/internal/core/segment"
	"bouncer/internal/store"
)

// A batch of so many records, or so many bytes, is a closed block at once.
const (
	closedRecords = 256
	closedBytes   = 256 << 10
)

// Writer adds calls to those on record, puts small blocks together, and removes the oldest.
// There is one for a database. It is safe for concurrent use.
type Writer struct {
	Log

	mu   sync.Mutex // held over one batch: the chain has one end. Guards head
	head *chainEnd  // the newest seal; nil when it has to be looked up
}

// chainEnd is the seal that the next one follows.
type chainEnd struct {
	seq  int64
	hash []byte
}

// NewWriter returns the writer of a store.
func NewWriter(s *store.Store) *Writer { return &Writer{Log: In(s)} }

// Append writes calls in one transaction, under one seal, and the counts of those that are
// recorded already.
func (w *Writer) Append(ctx context.Context, calls []Record, repeats ...Record) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(calls) == 0 {
		return w.part.Alter(ctx, func(tx *sql.Tx) error { return keepRepeats(ctx, tx, repeats) })
	}
	if w.head == nil {
		head, err := w.end(ctx)
		if err != nil {
			return err
		}
		w.head = &head
	}
	calls = segment.Sorted(calls)
	next := chainEnd{seq: w.head.seq + 1}
	next.hash = sealWith(inBLAKE2b.hash(), w.head.hash, next.seq, calls)
	s := segment.Write(calls, len(calls) >= closedRecords || segment.Size(calls) >= closedBytes)
	s.Low, s.High = next.seq, next.seq
	err := w.part.Alter(ctx, func(tx *sql.Tx) error {
		if err := keepRepeats(ctx, tx, repeats); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO seals (seq, at, records, first, last, way, hash) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			next.seq, time.Now().UnixMilli(), s.Records, int64(s.First), int64(s.Last), inBLAKE2b, next.hash)
		if err != nil {
			return fmt.Errorf("seal calls: %w", err)
		}
		return insert(ctx, tx, s)
	})
	if err != nil {
		w.head = nil
		return err
	}
	w.head = &next
	return nil
}

func insert(ctx context.Context, tx *sql.Tx, s segment.Segment) error {
	res, err := tx.ExecContext(ctx, `INSERT INTO segments (closed, records, first, last, low, high, facts, head, body)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, s.Facts != nil, s.Records, int64(s.First), int64(s.Last), s.Low, s.High, s.Facts, s.Head, s.Body)
	if err != nil {
		return fmt.Errorf("write a block of calls: %w", err)
	}
	if s.Words == nil {
		return nil
	}
	id, err := res.LastInsertId()
	if err != nil {
		return fmt.Errorf("write a block of calls: %w", err)
	}
	for part := range segment.LetterParts {
		if _, err := tx.ExecContext(ctx, lettersIn[part], id, s.LetterPart(part)); err != nil {
			return fmt.Errorf("write which letters a block has: %w", err)
		}
	}
	return nil
}

func keepRepeats(ctx context.Context, tx *sql.Tx, repeats []Record) error {
	for i := range repeats {
		_, err := tx.ExecContext(ctx, `INSERT INTO repeats (id, times) VALUES (?, ?) ON CONFLICT (id) DO UPDATE SET times = excluded.times`,
			int64(repeats[i].Key), repeats[i].Times)
		if err != nil {
			return fmt.Errorf("count a refusal that repeats: %w", err)
		}
	}
	return nil
}

// Around returns the newest key below a key, and the oldest one from there on; 0 for none.
func (l Log) Around(ctx context.Context, key Key) (below, above Key, err error) {
	err = l.part.View(ctx, func(tx *sql.Tx) error {
		var low, high sql.NullInt64
		err := tx.QueryRowContext(ctx, `SELECT (SELECT max(last) FROM segments WHERE last < ?1), (SELECT min(first) FROM segments WHERE first >= ?1)`,
			int64(key)).Scan(&low, &high)
		if err != nil {
			return err
		}
		below, above = Key(low.Int64), Key(high.Int64)
		return eachAcross(ctx, tx, key, func(r Key) {
			if r < key {
				below = max(below, r)
			} else if above == 0 || r < above {
				above = r
			}
		})
	})
	return below, above, err
}

// eachAcross gives the keys to fn of every block that has some on both sides of a key.
func eachAcross(ctx context.Context, tx *sql.Tx, key Key, fn func(Key)) error {
	rows, err := tx.QueryContext(ctx, `SELECT low, head FROM segments WHERE last >= ?1 AND first < ?1`, int64(key))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var low int64
		var head []byte
		if err := rows.Scan(&low, &head); err != nil {
			return err
		}
		records, err := segment.ReadHead(head, low)
		if err != nil {
			return damaged(err)
		}
		for i := range records {
			fn(records[i].Key)
		}
	}
	return rows.Err()
}

// Remove removes some of the oldest calls before a key, in whole blocks, and returns how
// many. The chain begins behind them then.
func (w *Writer) Remove(ctx context.Context, before Key, most int) (removed int, err error) {
	err = w.part.Alter(ctx, func(tx *sql.Tx) error {
		ids, high, n, err := oldest(ctx, tx, before, most)
		if err != nil || len(ids) == 0 {
			return err
		}
		removed = n
		for _, id := range ids {
			if _, err := tx.ExecContext(ctx, `DELETE FROM segments WHERE id = ?`, id); err != nil {
				return fmt.Errorf("remove a block of calls: %w", err)
			}
		}
		if high == 0 {
			return nil
		}
		const anchor = `INSERT INTO seal_anchor (one, seq, hash) SELECT 1, seq, hash FROM seals WHERE seq = ?
			ON CONFLICT (one) DO UPDATE SET seq = excluded.seq, hash = excluded.hash`
		if _, err := tx.ExecContext(ctx, anchor, high); err != nil {
			return fmt.Errorf("note where the chain begins: %w", err)
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM seals WHERE seq <= ?`, high)
		return err
	})
	return removed, err
}

// oldest are the oldest blocks that end before a key: at least one, about so many calls.
func oldest(ctx context.Context, tx *sql.Tx, before Key, most int) (ids []int64, high int64, records int, err error) {
	rows, err := tx.QueryContext(ctx, `SELECT id, high, last, records FROM segments ORDER BY low, id LIMIT ?`, max(most, 1))
	if err != nil {
		return nil, 0, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, seal int64
		var last Key
		var n int
		if err := rows.Scan(&id, &seal, &last, &n); err != nil {
			return nil, 0, 0, err
		}
		if last >= before || records > 0 && records+n > most {
			break
		}
		ids, high, records = append(ids, id), seal, records+n
	}
	return ids, high, records, rows.Err()
}

// end is the newest seal; of a chain whose calls were all removed, that which it begins
// behind.
func (l Log) end(ctx context.Context) (end chainEnd, err error) {
	err = l.part.View(ctx, func(tx *sql.Tx) error {
		for _, query := range [...]string{`SELECT seq, hash FROM seals ORDER BY seq DESC LIMIT 1`, `SELECT seq, hash FROM seal_anchor`} {
			err := tx.QueryRowContext(ctx, query).Scan(&end.seq, &end.hash)
			if !errors.Is(err, sql.ErrNoRows) {
				return err
			}
		}
		return nil
	})
	return end, err
}

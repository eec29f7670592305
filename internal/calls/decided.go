package calls

import (
	"context"
	"database/sql"
	"time"

	"bouncer/internal/core/segment"
)

// DecidedBy counts the calls since a time that each rule decided, by the rule's id. Blocks
// that lie wholly behind it tell so without being read.
func (l Log) DecidedBy(ctx context.Context, since time.Time) (map[string]int, error) {
	decided := map[string]int{}
	return decided, l.part.View(ctx, func(tx *sql.Tx) error {
		repeats, err := readRepeats(ctx, tx)
		if err != nil {
			return err
		}
		left, err := addDecided(ctx, tx, segment.KeyAt(since), repeats, decided)
		if err != nil {
			return err
		}
		for _, b := range left {
			records, err := readHead(ctx, tx, b.id, b.low)
			if err != nil {
				return err
			}
			for i := range records {
				if r := &records[i]; r.Rule != "" && r.Key >= segment.KeyAt(since) {
					decided[r.Rule] += max(r.Times, repeats[r.Key])
				}
			}
		}
		return nil
	})
}

// addDecided adds up what blocks say of themselves, and returns those that have to be read:
// those that began before, are not closed, or hold a refusal that may still repeat.
func addDecided(ctx context.Context, tx *sql.Tx, since Key, repeats map[Key]int, decided map[string]int) (left []block, err error) {
	rows, err := tx.QueryContext(ctx, `SELECT id, low, first, last, facts FROM segments WHERE last >= ?`, int64(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var b block
		var facts []byte
		if err := rows.Scan(&b.id, &b.low, &b.first, &b.last, &facts); err != nil {
			return nil, err
		}
		if b.first < since || b.repeats(repeats) || !segment.ReadFacts(facts).Decided(decided) {
			left = append(left, b)
		}
	}
	return left, rows.Err()
}

// repeats reports whether one of the keys can be in the block.
func (b *block) repeats(all map[Key]int) bool {
	for key := range all {
		if key >= b.first && key <= b.last {
			return true
		}
	}
	return false
}

package store

import (
	"context"
	"encoding/json"
	"fmt"

	"bouncer/internal/core/quiet"
)

// Wishes are what people want to be told of by mail, by their ids; those who want nothing
// are left out.
func (s *Store) Wishes(ctx context.Context) (map[string]quiet.Wish, error) {
	type row struct{ person, wish string }
	rows, err := list(ctx, s.read, func(r scanner) (v row, err error) { return v, r.Scan(&v.person, &v.wish) },
		`SELECT id, notices FROM people WHERE notices <> ''`)
	if err != nil {
		return nil, fmt.Errorf("read what people want to be told of: %w", err)
	}
	out := make(map[string]quiet.Wish, len(rows))
	for _, r := range rows {
		var w quiet.Wish
		if err := json.Unmarshal([]byte(r.wish), &w); err != nil {
			return nil, fmt.Errorf("read what a person wants to be told of: %w", err)
		}
		out[r.person] = w
	}
	return out, nil
}

// SetWish keeps what a person wants to be told of by mail.
func (t PeopleTx) SetWish(personID string, w quiet.Wish) error {
	raw, err := json.Marshal(w)
	if err != nil {
		return fmt.Errorf("write what a person wants to be told of: %w", err)
	}
	return t.one(`UPDATE people SET notices = ? WHERE id = ?`, string(raw), personID)
}

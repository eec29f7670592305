package store

import (
	"encoding/json"
	"fmt"

	"bouncer/internal/core/quiet"
)

// SetWish keeps what a person wants to be told of by mail.
func (t PeopleTx) SetWish(personID string, w quiet.Wish) error {
	raw, err := json.Marshal(w)
	if err != nil {
		return fmt.Errorf("write what a person wants to be told of: %w", err)
	}
	return t.one(`UPDATE people SET notices = ? WHERE id = ?`, string(raw), personID)
}

package calls_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// sealed are calls of which it is known what their seals were made with each way.
func sealed() []calls.Record {
	key := segment.KeyAt(time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
	return []calls.Record{
		{Key: key, Call: team.Call{
			Agent: "marit-quill", Person: "marit", Server: "sailings", Tool: "find_sailings", Decision: "admit", Rule: "R1", Outcome: "ok", Session: "s",
			Arguments: `{"to":"Holm Voe"}`, Result: "three", Micros: 1200, BytesIn: 17, BytesOut: 5, Control: &team.CallControl{Held: "nights"},
		}},
		{Key: key + 1, Call: team.Call{Agent: "voice", Decision: "refuse", Outcome: "refused", Error: "no rule", Cut: true}},
	}
}

// What was sealed stays verifiable, also what was sealed in the way of before, and by whoever makes the
// hashes with other means: they are known here as such a program gives them.
func TestSealsOfBothWays(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "b.db")
	s, err := store.Open(t.Context(), path, store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	w := calls.NewWriter(s)
	require.NoError(t, w.Append(t.Context(), sealed()))
	head, err := w.Head(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "e4de48dc7956cc8ab0ffda6ce65bd70b033ebb678b11d5b308ec89be14c79701", head.Hash, "BLAKE2b-256")

	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	exec := func(query string) {
		_, err := db.Exec(query)
		require.NoError(t, err)
	}
	exec(`UPDATE seals SET way = 0, hash = x'919233abdb973d9ec2767d0c9269292951d66cbd97896250c98758a269980eb8'`) // SHA-256
	later := sealed()
	for i := range later {
		later[i].Key += 10
	}
	w = calls.NewWriter(s) // as after an upgrade
	require.NoError(t, w.Append(t.Context(), later))
	problems := func() (out []string) {
		state, err := w.Verify(t.Context(), nil)
		require.NoError(t, err)
		assert.EqualValues(t, 2, state.Seals)
		for _, p := range state.Problems {
			out = append(out, fmt.Sprint(p.Seal, " ", p.What))
		}
		return out
	}
	assert.Empty(t, problems())
	exec(`UPDATE seals SET way = 1 WHERE seq = 1`)
	assert.Equal(t, []string{"1 a call that it sealed, or the seal itself, was altered"}, problems())
	exec(`UPDATE seals SET way = 7 WHERE seq = 1`)
	assert.Equal(t, []string{"1 it was sealed in a way that is not known here (7)"}, problems())
}

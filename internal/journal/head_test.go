package journal

import (
	"database/sql"
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Whatever is done to the journal behind its back shows, and what is removed for its age
// leaves a chain that can be verified.
func TestLaterAlterationsShow(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "bouncer.db")
	s, err := store.Open(t.Context(), path, store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	log := s.CallLog()
	start := time.Now().Add(-10 * time.Hour)
	fill := func(from, to int) {
		for batch := from; batch < to; batch++ {
			rows := []store.KeyedCall{}
			for i := range 3 {
				at := start.Add(time.Duration(batch)*time.Hour + time.Duration(i)*time.Millisecond)
				rows = append(rows, store.KeyedCall{Key: store.KeyAt(at), Call: team.Call{
					Agent: "night-watch", Server: "sailings", Tool: "cancel_sailing", Decision: "admit", Outcome: "ok", Arguments: fmt.Sprint(batch, i),
					Control: &team.CallControl{Held: "night-cancels", By: "joss"},
				}})
			}
			require.NoError(t, log.AppendCalls(t.Context(), rows))
		}
	}
	notary := NewNotary(log, make([]byte, 32))
	fill(0, 4)
	early, err := notary.Head(t.Context())
	require.NoError(t, err)
	fill(4, 6)
	verify := func(kept team.SignedHead) team.ChainState {
		v, err := notary.Verify(t.Context(), kept)
		require.NoError(t, err)
		return v
	}
	whole := verify(early)
	assert.True(t, whole.Whole, "%+v", whole.Problems)
	assert.Equal(t, []int64{6, 18, 0}, []int64{whole.Seals, whole.Records, whole.Unsealed})

	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	exec := func(query string) {
		_, err := db.Exec(query)
		require.NoError(t, err, query)
	}
	for name, row := range map[string]struct{ do, undo, what string }{
		"an argument": {
			`UPDATE calls SET arguments = 'x' WHERE arguments = '2 1'`, `UPDATE calls SET arguments = '2 1' WHERE arguments = 'x'`, "was altered",
		},
		"who decided": {
			`UPDATE calls SET control = replace(control, 'joss', 'teo') WHERE arguments = '3 0'`,
			`UPDATE calls SET control = replace(control, 'teo', 'joss') WHERE arguments = '3 0'`, "was altered",
		},
		"a call gone": {
			`CREATE TABLE kept AS SELECT * FROM calls WHERE arguments = '1 2'; DELETE FROM calls WHERE arguments = '1 2'`,
			`INSERT INTO calls SELECT * FROM kept; DROP TABLE kept`, "it sealed 3 calls, and there are 2",
		},
		"a call put in": {
			`CREATE TABLE was AS SELECT * FROM calls WHERE arguments = '1 2'; UPDATE was SET id = id + 1, seal = 0; INSERT INTO calls SELECT * FROM was`,
			`DELETE FROM calls WHERE seal = 0; DROP TABLE was`, "put in without a seal",
		},
		"a seal gone": {
			`CREATE TABLE gone AS SELECT * FROM seals WHERE seq = 3; DELETE FROM seals WHERE seq = 3`,
			`INSERT INTO seals SELECT * FROM gone; DROP TABLE gone`, "the seals from 3 to 3 are gone",
		},
		"another seal": {`UPDATE seals SET hash = x'00' WHERE seq = 6`, ``, "the seal itself, was altered"},
	} {
		var hash []byte
		require.NoError(t, db.QueryRow(`SELECT hash FROM seals WHERE seq = 6`).Scan(&hash))
		exec(row.do)
		v := verify(team.SignedHead{})
		assert.False(t, v.Whole, name)
		require.NotEmpty(t, v.Problems, name)
		assert.Contains(t, fmt.Sprint(v.Problems), row.what, name)
		if row.undo == "" {
			_, err := db.Exec(`UPDATE seals SET hash = ? WHERE seq = 6`, hash)
			require.NoError(t, err)
			continue
		}
		exec(row.undo)
		assert.True(t, verify(early).Whole, name)
	}

	// A chain that was cut off, or written anew, fits itself; the head that was kept shows it.
	late, err := notary.Head(t.Context())
	require.NoError(t, err)
	exec(`CREATE TABLE calls_off AS SELECT * FROM calls WHERE seal > 4; DELETE FROM calls WHERE seal > 4; CREATE TABLE seals_off AS SELECT * FROM seals WHERE seq > 4; DELETE FROM seals WHERE seq > 4`)
	assert.True(t, verify(team.SignedHead{}).Whole)
	assert.Contains(t, fmt.Sprint(verify(late).Problems), "newer calls were removed")
	exec(`INSERT INTO calls SELECT * FROM calls_off; INSERT INTO seals SELECT * FROM seals_off`)
	forged := late
	forged.Seal = 5
	_, err = notary.Verify(t.Context(), forged)
	assert.ErrorContains(t, err, "its signature does not fit")

	// What is too old goes with whole seals, and the rest is still a chain.
	n, err := log.DropCallsBefore(t.Context(), store.KeyAt(start.Add(2*time.Hour+time.Millisecond)), 100)
	require.NoError(t, err)
	assert.Equal(t, 6, n, "the seal of two hours is not over")
	v := verify(late)
	assert.True(t, v.Whole, "%+v", v.Problems)
	assert.Equal(t, []int64{2, 4, 12}, []int64{v.Dropped, v.Seals, v.Records})
	fill(7, 8)
	assert.True(t, verify(late).Whole)

	j, err := New(t.Context(), log, Options{Log: slog.New(slog.DiscardHandler), Strict: true})
	require.NoError(t, err)
	require.NoError(t, j.Record(t.Context(), refusal("quill", "order_fuel")))
	require.NoError(t, j.Record(t.Context(), refusal("quill", "order_fuel")))
	j.Close()
	assert.True(t, verify(late).Whole, "refusals that repeat are counted without harm")
}

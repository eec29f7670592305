package stats_test

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/observe/stats"
	"bouncer/internal/store"
)

// However calls are spread over several services, what those tell adds up to what one would tell.
func TestFiguresOfSeveralAddUp(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 8, 30, 0, 0, time.UTC)
	open := func() (*calls.Writer, *stats.Service) {
		s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.Close() })
		return calls.NewWriter(s), stats.New(s, slog.New(slog.DiscardHandler), func() time.Time { return now })
	}
	whole, all := open()
	var logs []*calls.Writer
	var parts []*stats.Service
	for range 3 {
		log, part := open()
		logs, parts = append(logs, log), append(parts, part)
	}
	r := rand.New(rand.NewPCG(1, 2))
	spread := make([][]calls.Record, 3)
	var every []calls.Record
	for i := range 900 {
		at := now.Add(-time.Duration(900-i) * 4 * time.Minute)
		c := team.Call{
			At: at, Agent: fmt.Sprint("agent-", r.IntN(4)), Server: fmt.Sprint("server-", r.IntN(5)), Tool: "t", Decision: team.DecisionAdmit,
			Outcome: []string{team.OutcomeOK, team.OutcomeError, team.OutcomeRefused}[r.IntN(3)], Micros: int64(r.ExpFloat64() * 1e5),
			BytesIn: r.IntN(100), BytesOut: r.IntN(1000), Times: 1 + r.IntN(3),
		}
		record := calls.Record{Key: segment.KeyAt(at), Call: c}
		every = append(every, record)
		at3 := r.IntN(3)
		spread[at3] = append(spread[at3], record)
	}
	require.NoError(t, whole.Append(t.Context(), every))
	require.NoError(t, all.RollUp(t.Context()))
	admin := team.Person{Name: "ines", Role: team.Admin}
	for i := range parts {
		require.NoError(t, logs[i].Append(t.Context(), spread[i]))
		if i != 1 { // one of them has not added up its hours yet
			require.NoError(t, parts[i].RollUp(t.Context()))
		}
	}
	for name, q := range map[string]stats.Query{
		"days": {Since: now.Add(-60 * time.Hour), Until: now, Took: true}, "hours": {Since: now.Add(-3 * time.Hour), Until: now, By: "agent", Took: true},
	} {
		var answers []apitype.Stats
		for _, part := range parts {
			a, err := part.Stats(t.Context(), admin, q)
			require.NoError(t, err)
			answers = append(answers, a)
		}
		want, err := all.Stats(t.Context(), admin, q)
		require.NoError(t, err)
		require.Positive(t, want.Total.P99)
		got, err := stats.Merge(answers, true)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
		plain := q
		plain.Took = false
		want, err = all.Stats(t.Context(), admin, plain)
		require.NoError(t, err)
		got, err = stats.Merge(answers, false)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
		answers[0].Step++
		_, err = stats.Merge(answers, false)
		assert.ErrorIs(t, err, stats.ErrDiffer)
		answers[0].Step--
		answers[2].Total.Took = []byte{0xff}
		_, err = stats.Merge(answers, false)
		assert.ErrorContains(t, err, "no histogram")
	}
	_, err := stats.Merge(nil, false)
	assert.ErrorIs(t, err, stats.ErrDiffer)
}

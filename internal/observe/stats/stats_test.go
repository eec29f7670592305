package stats_test

import (
	"fmt"
	"log/slog"
	"net/url"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
	"bouncer/internal/observe/stats"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
)

// past writes calls of three days into a database that no service has opened yet: one each
// ten minutes, every fifth of them a failure, in the real journal.
func past(t *testing.T, dir string, now time.Time) (n int) {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(dir, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	log := calls.NewWriter(s)
	j, err := journal.New(t.Context(), log, journal.Options{BodyLimit: 100, From: log, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	for at := now.Add(-72 * time.Hour); at.Before(now); at = at.Add(10 * time.Minute) {
		outcome := team.OutcomeOK
		if n%5 == 0 {
			outcome = team.OutcomeError
		}
		person := []string{"marit", "joss"}[n%2]
		require.NoError(t, j.Record(t.Context(), &journal.Entry{Call: team.Call{
			At: at, Agent: person + "-quill", Person: person, Server: "sailings", Tool: fmt.Sprint("tool-", n%3), Decision: team.DecisionAdmit,
			Outcome: outcome, Micros: int64(1000 * (1 + n%100)), BytesIn: 10, BytesOut: 100, Times: 1,
		}}))
		n++
	}
	j.Close()
	require.NoError(t, s.Close())
	return n
}

// Figures of hours that were added up and of single calls make one picture, also when the
// calls themselves are gone; a member sees what is their own.
func TestFiguresOverTime(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	n := past(t, dir, time.Now().Add(-time.Minute))
	w := testkit.Start(t, map[string]string{"data": dir})
	w.Person("joss", "Joss Penhale", team.Member)
	joss := w.SignIn("joss", testkit.Password)
	ask := func(token, query string) (s apitype.Stats) {
		t.Helper()
		w.MustAs(token, "GET", "/api/stats?"+query, nil, &s)
		return s
	}
	since := url.QueryEscape(time.Now().Add(-80 * time.Hour).UTC().Format(time.RFC3339))
	count := func(f apitype.Figures) int { return int(f.OK + f.Refused + f.Failed) }
	var all apitype.Stats
	for range 20 { // also while hours are being added up
		all = ask(w.Token, "since="+since+"&by=tool")
		require.Equal(t, n, count(all.Total))
	}
	assert.Equal(t, 3600, all.Step)
	assert.Len(t, all.Groups, 3)
	assert.InDelta(t, n/5, all.Total.Failed, 1)
	assert.InEpsilon(t, 50, all.Total.P50, 0.2)
	assert.InEpsilon(t, 95, all.Total.P95, 0.2)
	sum := 0
	for _, p := range all.Points {
		sum += count(p.Figures)
	}
	assert.Equal(t, n, sum, "the steps add up to the whole")

	day := ask(w.Token, "by=person")
	assert.InDelta(t, 144, count(day.Total), 7)
	require.Len(t, day.Groups, 2)
	hour := ask(w.Token, "since="+url.QueryEscape(time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)))
	assert.Equal(t, 60, hour.Step)
	assert.InDelta(t, 6, count(hour.Total), 1)

	own := ask(joss, "since="+since+"&by=person")
	require.Len(t, own.Groups, 1)
	assert.Equal(t, "joss", own.Groups[0].Name)
	assert.Equal(t, count(all.Total)/2, count(own.Total))
	assert.Empty(t, ask(joss, "agent=marit-quill&since="+since).Groups)
	one := ask(w.Token, "since="+since+"&server=sailings&tool=tool-1&by=agent")
	assert.InDelta(t, n/3, count(one.Total), 1)

	for query, field := range map[string]string{
		"by=colour": "by", "since=yesterday": "since", "since=2020-01-01T00:00:00Z": "since", "until=2020-01-01T00:00:00Z&since=2020-01-02T00:00:00Z": "until",
	} {
		assert.Equal(t, field, w.Problem("GET", "/api/stats?"+query, nil).Field, query)
	}

	// Gone calls leave their figures, but for those of the last hours.
	w.Stop()
	s, err := store.Open(t.Context(), filepath.Join(dir, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	// The service may have been stopped before it had come so far.
	require.NoError(t, stats.New(s, slog.New(slog.DiscardHandler), time.Now).RollUp(t.Context()))
	removed, err := calls.NewWriter(s).Remove(t.Context(), segment.LastKey, 10*n)
	require.NoError(t, err)
	assert.Equal(t, n, removed)
	require.NoError(t, s.Close())
	w = testkit.Start(t, map[string]string{"data": dir})
	assert.InDelta(t, n, count(ask(w.Token, "since="+since).Total), 18)
}

// A clock that was ahead for a while leaves no hour without its calls.
func TestHoursAreAddedUpAgainAfterAClockThatWasAhead(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	now := time.Now().Truncate(time.Hour).Add(30 * time.Minute)
	s, err := store.Open(t.Context(), filepath.Join(dir, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	log := calls.NewWriter(s)
	add := func(at time.Time, n int) {
		var list []calls.Record
		for i := range n {
			list = append(list, calls.Record{Key: segment.KeyAt(at) + calls.Key(i), Call: team.Call{Agent: "voice", Outcome: team.OutcomeOK}})
		}
		require.NoError(t, log.Append(t.Context(), list))
	}
	clock := now
	svc := stats.New(s, slog.New(slog.DiscardHandler), func() time.Time { return clock })
	total := func() int64 {
		require.NoError(t, svc.RollUp(t.Context()))
		admin := team.Person{Name: "marit", Role: team.Admin}
		got, err := svc.Stats(t.Context(), admin, stats.Query{Since: now.Add(-48 * time.Hour), Until: now.Add(48 * time.Hour)})
		require.NoError(t, err)
		return got.Total.OK
	}
	add(now.Add(-3*time.Hour), 5)
	assert.EqualValues(t, 5, total())
	clock = now.Add(40 * 24 * time.Hour)
	assert.EqualValues(t, 5, total())
	clock = now.Add(time.Minute)
	add(clock, 7)
	assert.EqualValues(t, 12, total(), "what the clock ran ahead of is not taken for done")
	clock = now.Add(5 * time.Hour)
	assert.EqualValues(t, 12, total())
	assert.EqualValues(t, 12, total())
}

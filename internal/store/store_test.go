package store

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
)

func open1(t *testing.T) (*Store, string) {
	path := filepath.Join(t.TempDir(), "b.db")
	s, err := Open(t.Context(), path, Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s, path
}

func TestDatabaseIsClosedToOthersAndInWAL(t *testing.T) {
	t.Parallel()
	s, path := open1(t)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	var mode string
	require.NoError(t, s.write.QueryRow("PRAGMA journal_mode").Scan(&mode))
	assert.Equal(t, "wal", mode)
	_, err = s.read.Exec("DELETE FROM people")
	assert.ErrorContains(t, err, "readonly", "readers must not be able to write")
	var keys int
	require.NoError(t, s.write.QueryRow("PRAGMA foreign_keys").Scan(&keys))
	assert.Equal(t, 1, keys)
}

func TestNewerDatabaseIsLeftAlone(t *testing.T) {
	t.Parallel()
	s, path := open1(t)
	_, err := s.write.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	require.NoError(t, s.Close())
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	_, err = Open(context.Background(), path, Options{})
	var newer *NewerError
	require.ErrorAs(t, err, &newer)
	assert.Equal(t, 99, newer.Have)
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

func TestForeignFileIsNoDatabase(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "b.db")
	require.NoError(t, os.WriteFile(path, []byte("this is a letter, and a long one at that, to somebody else entirely"), 0o600))
	_, err := Open(t.Context(), path, Options{})
	assert.ErrorContains(t, err, "no database")
}

// A change and its record are there together or not at all.
func TestChangeIsRecordedInItsTransaction(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	ctx := t.Context()
	p := team.Person{ID: team.NewID(), Name: "marit", FullName: "Marit Aune", Role: team.Admin, Created: time.Now()}
	add := func(tx *Tx) error { return tx.AddPerson(p, "hash") }
	require.NoError(t, s.Write(ctx, team.Change{Person: "marit", What: "person.add", Subject: "marit"}, add))
	p.ID = team.NewID()
	assert.ErrorIs(t, s.Write(ctx, team.Change{What: "person.add", Subject: "twin"}, add), ErrTaken)
	list, err := s.Changes(ctx, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "person.add", list[0].What)
	assert.WithinDuration(t, time.Now(), list[0].At, time.Minute)
}

func TestEditionsAreKeptOnceAndBounded(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	ctx := t.Context()
	server := team.Server{ID: team.NewID(), Name: "sailings", URL: "http://x", Transport: "streamable-http", Created: time.Now()}
	require.NoError(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.AddServer(server) }))
	put := func(list []tools.Tool) {
		require.NoError(t, s.Update(ctx, func(tx *Tx) error { return tx.AddEdition(server.ID, time.Now(), list) }))
	}
	one := []tools.Tool{{Name: "a", Raw: []byte(`{"name":"a"}`), Fingerprint: "1"}}
	put(one)
	put(one)
	var n int
	require.NoError(t, s.read.QueryRow("SELECT count(*) FROM editions").Scan(&n))
	assert.Equal(t, 1, n)
	for i := range maxEditions + 5 {
		put([]tools.Tool{{Name: "a", Raw: []byte(`{}`), Fingerprint: time.Duration(i).String()}})
	}
	require.NoError(t, s.read.QueryRow("SELECT count(*) FROM editions").Scan(&n))
	assert.Equal(t, maxEditions, n)
	put(one)
	got, err := s.Edition(ctx, server.ID)
	require.NoError(t, err)
	assert.Equal(t, one, got)
	require.NoError(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.RemoveServer(server.ID) }))
	got, err = s.Edition(ctx, server.ID)
	assert.NoError(t, err)
	assert.Empty(t, got)
}

func TestCallKeysAreULIDsInTheOrderOfTime(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 8, 30, 0, 5e6, time.UTC)
	k := KeyAt(at) + 7
	id := k.ULID()
	assert.Len(t, id, 26)
	back, err := ParseCallKey(id)
	require.NoError(t, err)
	assert.Equal(t, k, back)
	assert.Equal(t, at, k.Time())
	assert.Less(t, id, (k + 1).ULID())
	for _, bad := range []string{"", "x", id[:25] + "!", team.NewID()} {
		_, err := ParseCallKey(bad)
		assert.ErrorIs(t, err, ErrNotFound, bad)
	}
}

func TestCallFilters(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	start := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	var rows []KeyedCall
	for i, c := range []team.Call{
		{Agent: "marit-quill", Person: "marit", Server: "sailings", Tool: "find_sailings", Decision: "admit", Outcome: "ok", Rule: "R1", Arguments: `{"to":"Holm Voe"}`},
		{Agent: "marit-quill", Person: "marit", Server: "sailings", Tool: "cancel_sailing", Decision: "refuse", Outcome: "refused", Rule: "R2"},
		{Agent: "joss-quill", Person: "joss", Server: "berths", Tool: "list_berths", Decision: "admit", Outcome: "tool-error", Error: "fog"},
		{Agent: "night-watch", Server: "berths", Tool: "list_berths", Decision: "admit", Outcome: "timeout"},
	} {
		rows = append(rows, KeyedCall{Key: KeyAt(start.Add(time.Duration(i) * time.Minute)), Call: c})
	}
	require.NoError(t, s.CallLog().AppendCalls(t.Context(), rows))
	for name, row := range map[string]struct {
		f    CallFilter
		want []int // newest first
	}{
		"all":                 {CallFilter{}, []int{3, 2, 1, 0}},
		"by agent":            {CallFilter{Agent: "marit-quill"}, []int{1, 0}},
		"by owner":            {CallFilter{Owner: "joss"}, []int{2}},
		"by tool glob":        {CallFilter{Tool: "*_berths", Server: "berths"}, []int{3, 2}},
		"by outcome":          {CallFilter{Outcome: "refused"}, []int{1}},
		"by rule":             {CallFilter{Rule: "R1"}, []int{0}},
		"by text in a result": {CallFilter{Text: "holm voe"}, []int{0}},
		"by text in an error": {CallFilter{Text: "FOG"}, []int{2}},
		"text is no pattern":  {CallFilter{Text: "%"}, []int{}},
		"since":               {CallFilter{Since: start.Add(2 * time.Minute)}, []int{3, 2}},
		"until":               {CallFilter{Until: start.Add(time.Minute)}, []int{0}},
		"the page before":     {CallFilter{Before: rows[2].Key, Limit: 1}, []int{1}},
		"what follows":        {CallFilter{After: rows[1].Key, Limit: 1}, []int{2}},
	} {
		t.Run(name, func(t *testing.T) {
			if row.f.Limit == 0 {
				row.f.Limit = 10
			}
			got, err := s.CallLog().Calls(t.Context(), row.f)
			require.NoError(t, err)
			keys := []int{}
			for _, g := range got {
				keys = append(keys, int(g.Key.Time().Sub(start).Minutes()))
				assert.Empty(t, g.Arguments, "lists carry no bodies")
			}
			assert.Equal(t, row.want, keys)
		})
	}
	full, err := s.CallLog().CallByKey(t.Context(), rows[0].Key)
	require.NoError(t, err)
	assert.Equal(t, `{"to":"Holm Voe"}`, full.Arguments)
	counts, err := s.CallLog().CallCounts(t.Context(), CallFilter{Since: start}, 2*time.Minute)
	require.NoError(t, err)
	assert.Equal(t, []team.Bucket{{At: start, OK: 1, Refused: 1}, {At: start.Add(2 * time.Minute), Failed: 2}}, counts)
	assert.ErrorIs(t, conflict(s.CallLog().AppendCalls(t.Context(), rows[:1])), ErrTaken)
	_, err = s.CallLog().CallByKey(t.Context(), 5)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.NotErrorIs(t, err, sql.ErrNoRows)
}

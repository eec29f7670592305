package ledger

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/replication"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

func open(t *testing.T) (*store.Store, Ledger) {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "bouncer.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	require.NoError(t, Of(s).SetPosition(t.Context(), Position{Cluster: "skerrow", Applied: 7}))
	return s, Of(s)
}

// fill puts two servers, an incident at each and a person into a register.
func fill(t *testing.T, s *store.Store, names ...string) {
	t.Helper()
	require.NoError(t, s.Local(t.Context(), func(tx *store.Tx) error {
		for _, name := range names {
			v := team.Server{ID: "id-" + name, Name: name, URL: "http://127.0.0.1:4701/mcp", Transport: "streamable-http", Created: time.UnixMilli(5)}
			if err := tx.AddServer(v); err != nil {
				return err
			}
			if err := tx.KeepIncident(v.ID, team.Incident{ID: "incident-" + name, Server: name, Cause: "auth.token-expired"}); err != nil {
				return err
			}
		}
		return nil
	}))
}

func servers(t *testing.T, s *store.Store) (names []string) {
	t.Helper()
	list, err := s.Servers(t.Context())
	require.NoError(t, err)
	for _, v := range list {
		names = append(names, v.Name)
	}
	return names
}

// A copy takes the place of what nodes share, and of nothing else: a node keeps its own incidents,
// but for those of what is gone.
func TestACopyTakesThePlaceOfWhatIsShared(t *testing.T) {
	t.Parallel()
	from, theirs := open(t)
	fill(t, from, "sailings", "tides")
	to, mine := open(t)
	fill(t, to, "tides", "drydock")
	path := filepath.Join(t.TempDir(), "state.db")
	at, err := theirs.Export(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, []any{"skerrow", uint64(7)}, []any{at.Cluster, at.Seq})
	read, err := ReadState(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, at, read)

	taken, err := mine.Import(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, at, taken)
	assert.Equal(t, []string{"sailings", "tides"}, servers(t, to))
	incidents, err := to.Incidents(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, incidents, 1)
	assert.Equal(t, "incident-tides", incidents[0].ID)
	same, err := mine.Sums(t.Context())
	require.NoError(t, err)
	assert.Empty(t, replication.Differ(at.Sums, same.Sums))
}

// A copy that is damaged, altered or of a later schema alters nothing.
func TestACopyThatIsNoneAltersNothing(t *testing.T) {
	t.Parallel()
	from, theirs := open(t)
	fill(t, from, "sailings")
	to, mine := open(t)
	fill(t, to, "drydock")
	dir := t.TempDir()
	spoil := func(statement string) string {
		path := filepath.Join(dir, team.NewID())
		_, err := theirs.Export(t.Context(), path)
		require.NoError(t, err)
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		_, err = db.Exec(statement)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		return path
	}
	nonsense := filepath.Join(dir, "nonsense")
	require.NoError(t, os.WriteFile(nonsense, []byte("not a database, but long enough to look like one might"), 0o600))
	for path, why := range map[string]string{
		nonsense:                               "not a database",
		spoil(`DROP TABLE state`):              "it is no copy of a state",
		spoil(`UPDATE servers SET name = 'x'`): "the tables [servers] differ",
		spoil(`DROP TABLE people`):             "the tables [people] differ",
		spoil(`UPDATE state SET about = 'x'`):  "it is no copy of a state",
		spoil(`UPDATE state SET about = json_set(about, '$.Schema', 9999)`): "schemas up to",
	} {
		_, err := mine.Import(t.Context(), path)
		require.ErrorContains(t, err, why)
		assert.Equal(t, []string{"drydock"}, servers(t, to), why)
		at, err := mine.Position(t.Context())
		require.NoError(t, err)
		assert.Equal(t, uint64(7), at.Applied)
	}
}

// An entry is carried out once, all of it or nothing, and only on the state that it fits.
func TestEntriesAreCarriedOutOnce(t *testing.T) {
	t.Parallel()
	_, l := open(t)
	put := replication.Statement{
		Query: "INSERT INTO labels (kind, subject, tool, label) VALUES (?, ?, ?, ?)", Rows: 1,
		Args: []replication.Value{{V: "agent"}, {V: "a"}, {V: ""}, {V: "laptop"}},
	}
	entry := replication.Entry{Version: 1, ID: "x", Node: "north", Schema: 1, What: "label.set", Statements: []replication.Statement{put}}
	require.NoError(t, l.Apply(t.Context(), 8, entry, nil))
	require.NoError(t, l.Apply(t.Context(), 8, entry, nil), "what was carried out is passed over")
	before, err := l.Sums(t.Context())
	require.NoError(t, err)
	assert.Equal(t, uint64(8), before.Seq)

	other := put
	other.Args = []replication.Value{{V: "agent"}, {V: "b"}, {V: ""}, {V: "laptop"}}
	entry.Statements = []replication.Statement{other, put}
	var poisoned *PoisonedError
	require.ErrorAs(t, l.Apply(t.Context(), 9, entry, []byte("raw")), &poisoned)
	assert.Equal(t, []any{uint64(9), "north", "label.set"}, []any{poisoned.Seq, poisoned.Node, poisoned.What})
	require.ErrorIs(t, poisoned, errors.Unwrap(poisoned))
	after, err := l.Sums(t.Context())
	require.NoError(t, err)
	assert.Equal(t, uint64(9), after.Seq)
	assert.Empty(t, replication.Differ(before.Sums, after.Sums), "all or nothing")

	var diverged *DivergedError
	require.ErrorAs(t, l.Apply(t.Context(), 10, replication.Entry{Marks: map[string]string{"labels": "x"}}, nil), &diverged)
	assert.Contains(t, diverged.Tables, "labels")
	require.NoError(t, l.Apply(t.Context(), 10, replication.Entry{Marks: after.Sums}, nil))

	gone, cancel := context.WithCancel(t.Context())
	cancel()
	err = l.Apply(gone, 11, entry, nil)
	require.ErrorIs(t, err, context.Canceled, "that it was given up says nothing about the entry")
	aside, err := l.Quarantined(t.Context())
	require.NoError(t, err)
	require.Len(t, aside, 1)
	assert.Contains(t, aside[0].Why, "statement 2")
}

// A table is each node's own or the same on all of them; which it is, is decided when it is made.
func TestEveryTableIsSharedOrOwn(t *testing.T) {
	t.Parallel()
	_, l := open(t)
	at, err := l.Sums(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{
		"accepted_tools", "agents", "apps", "budgets", "bundles", "changes", "clients", "consents", "editions", "examples", "given", "invitations",
		"journal_heads", "labels", "logins", "machine_codes", "passes", "people", "refreshes", "review_modes", "rules", "secrets", "servers", "signins",
	}, slices.Sorted(maps.Keys(at.Sums)), "what is not listed as own is shared, and altered by way of store.Write and store.Update only")
}

package store

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/store/schema"
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
	var newer *schema.NewerError
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

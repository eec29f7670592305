package store

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/store/schema"
)

// A copy is looked at without being altered; what is no copy says so.
func TestInspect(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	require.NoError(t, s.Update(t.Context(), func(tx *Tx) error {
		box := locker.Box{ID: "01K", KeyID: "k1", DataKey: []byte{1}, Value: []byte{2}}
		return tx.AddSecret(team.Secret{ID: "01K", Name: "sailings-token", Kind: team.KindBearer}, box)
	}))
	path := filepath.Join(t.TempDir(), "copy.db")
	require.NoError(t, s.Backup(t.Context(), path))
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	c, err := Inspect(t.Context(), path)
	require.NoError(t, err)
	newest, err := schema.Newest()
	require.NoError(t, err)
	assert.Equal(t, Contents{Schema: newest, Secrets: 1, Keys: []string{"k1"}}, c)
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	beside, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, beside, 1, "nothing is written beside it")

	db, err := open(path)
	require.NoError(t, err)
	_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", newest+1))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	var newer *schema.NewerError
	_, err = Inspect(t.Context(), path)
	require.ErrorAs(t, err, &newer)

	other := filepath.Join(t.TempDir(), "other.db")
	db, err = open(other)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE berths (id INTEGER)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Inspect(t.Context(), other)
	assert.ErrorContains(t, err, "no copy of Bouncer's state")
	_, err = Inspect(t.Context(), filepath.Join(t.TempDir(), "missing.db"))
	assert.Error(t, err)
}

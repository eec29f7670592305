package fault

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T, path string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_txlock=immediate&_pragma=busy_timeout(1)")
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// What SQLite says is told apart by what helps; whatever else goes wrong stays what it is.
func TestFaultsAreToldApart(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "b.db")
	keeps, hasty := open(t, path), open(t, path)
	_, err := keeps.Exec("CREATE TABLE tides (at INTEGER)")
	require.NoError(t, err)
	tx, err := keeps.BeginTx(t.Context(), nil)
	require.NoError(t, err)
	_, err = hasty.BeginTx(t.Context(), nil)
	var busy *BusyError
	require.ErrorAs(t, Of(err), &busy)
	assert.Contains(t, busy.Unavailable(), "try again")
	assert.ErrorIs(t, busy, err)
	assert.False(t, Full(err))
	require.NoError(t, tx.Rollback())

	_, err = hasty.Exec("PRAGMA max_page_count = 1; INSERT INTO tides VALUES (zeroblob(99999))")
	require.Error(t, err)
	assert.True(t, Full(err))
	var full *FullError
	require.ErrorAs(t, Of(err), &full)
	assert.Contains(t, full.Unavailable(), "make room")
	assert.ErrorIs(t, full, err)
	assert.True(t, Full(full), "also when it was told apart")
	none := filepath.Join(t.TempDir(), "none.db")
	require.NoError(t, os.WriteFile(none, make([]byte, 9000), 0o600))
	_, err = open(t, none).Exec("CREATE TABLE x (y)")
	assert.ErrorContains(t, Of(err), "the file is no database")
	other := errors.New("the tide is out")
	assert.Equal(t, other, Of(other))
	assert.NoError(t, Of(nil))
	assert.Contains(t, (&DamagedError{Part: "calls", Err: other}).Error(), "in the part calls")
}

package upkeep

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// keeper is one over an empty state, whose copies are written by write.
func keeper(t *testing.T, write func(s *store.Store) func(context.Context, string) error) (*Keeper, *time.Time) {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "bouncer.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	return New(Options{
		Dir: filepath.Join(t.TempDir(), "copies"), Every: time.Hour, Write: write(s), Keys: func() []string { return nil },
		Log: slog.New(slog.DiscardHandler), Now: func() time.Time { return now },
	}), &now
}

// What is made is made whole or not at all; why it was not is told until one is made again.
func TestACopyIsWholeOrNotThere(t *testing.T) {
	t.Parallel()
	var how func(s *store.Store, ctx context.Context, path string) error
	k, now := keeper(t, func(s *store.Store) func(context.Context, string) error {
		return func(ctx context.Context, path string) error { return how(s, ctx, path) }
	})
	for why, write := range map[string]func(*store.Store, context.Context, string) error{
		"the disk is full": func(*store.Store, context.Context, string) error { return errors.New("the disk is full") },
		"open the copy": func(_ *store.Store, _ context.Context, path string) error {
			return os.WriteFile(path, []byte("half of it"), 0o600)
		},
	} {
		how = write
		_, err := k.MakeNow(t.Context())
		require.ErrorContains(t, err, why)
		state, err := k.State()
		require.NoError(t, err)
		assert.Contains(t, state.Problem, why)
		assert.Empty(t, state.Copies)
		left, err := os.ReadDir(k.o.Dir)
		require.NoError(t, err)
		assert.Empty(t, left, "nothing half-made is left")
	}
	how = func(s *store.Store, ctx context.Context, path string) error { return s.Backup(ctx, path) }
	state, err := k.MakeNow(t.Context())
	require.NoError(t, err)
	assert.Empty(t, state.Problem)
	require.Len(t, state.Copies, 1)
	assert.Equal(t, *now, *state.Last)
	assert.Zero(t, k.until()-time.Hour, "the next is due an hour later, also after a restart")
	*now = now.Add(3 * time.Hour)
	assert.Zero(t, k.until(), "one that was missed is due at once")

	// Other files are left alone, and old copies go.
	mine := filepath.Join(k.o.Dir, "bouncer-by-hand.db")
	require.NoError(t, os.WriteFile(mine, nil, 0o600))
	*now = now.AddDate(0, 6, 0)
	state, err = k.MakeNow(t.Context())
	require.NoError(t, err)
	assert.Len(t, state.Copies, 1, "the one of half a year ago is gone")
	_, err = os.Stat(mine)
	assert.NoError(t, err)
}

// A copy that is sealed with a key that is gone is none; where no directory is set, none is
// made, and that is said.
func TestKeysAndDirectory(t *testing.T) {
	t.Parallel()
	k, _ := keeper(t, func(s *store.Store) func(context.Context, string) error { return s.Backup })
	state, err := k.MakeNow(t.Context())
	require.NoError(t, err)
	_, err = Verify(t.Context(), state.Copies[0].File, nil)
	require.NoError(t, err, "nothing is sealed in it")
	none := New(Options{})
	var conflict *team.ConflictError
	_, err = none.MakeNow(t.Context())
	require.ErrorAs(t, err, &conflict)
	assert.Contains(t, conflict.Hint, "bouncer backup FILE")
	empty, err := none.State()
	require.NoError(t, err)
	assert.Empty(t, empty.Dir)
	none.Start()
	none.Close()
}

package disk

import (
	"io"
	"log/slog"
	"os"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheReserveIsKeptAndGivenBack(t *testing.T) {
	t.Parallel()
	var free atomic.Int64
	free.Store(10 << 20)
	dir := t.TempDir()
	w := Start(t.Context(), Options{
		Dir: dir, Reserve: 1 << 20, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Free: func(string) (int64, error) { return free.Load(), nil },
	})
	w.Close() // the test looks itself
	size := func() int64 {
		info, err := os.Stat(w.path())
		if err != nil {
			return 0
		}
		return info.Size()
	}
	assert.False(t, w.Full())
	assert.EqualValues(t, 256<<10, size())
	free.Store(1<<20 - 1)
	w.look()
	assert.True(t, w.Full(), "the journal stops before the disk is full")
	assert.NotZero(t, size())
	free.Store(100 << 10)
	w.look()
	assert.Zero(t, size(), "what is left is for people")
	assert.True(t, w.Relieve(), "who met the full disk at the same time tries again, too")
	w.given = w.given.Add(-sameTime)
	assert.False(t, w.Relieve(), "once")
	free.Store(1<<20 + 1)
	w.look()
	assert.True(t, w.Full(), "a little room is no reason to change one's mind")
	free.Store(4 << 20)
	w.look()
	assert.False(t, w.Full())
	assert.NotZero(t, size())
	assert.True(t, w.Relieve())
	assert.True(t, w.Full())

	off := Start(t.Context(), Options{Dir: t.TempDir()})
	assert.False(t, off.Full())
	off.Close()
	left, err := Free(t.TempDir())
	require.NoError(t, err)
	assert.Positive(t, left)
	_, err = Free("/nowhere/at/all")
	assert.Error(t, err)
}

package upkeep_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/app"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
	"bouncer/internal/upkeep"
)

// Copies are thinned as they grow old, and the newest stays however old it is.
func TestCopiesGrowOld(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	var made []time.Time
	for at := now.Add(-120 * 24 * time.Hour); !at.After(now); at = at.Add(6 * time.Hour) {
		made = append(made, at)
	}
	gone := map[time.Time]bool{}
	for _, at := range upkeep.Outlived(made, now) {
		gone[at] = true
	}
	kept := map[string]int{}
	for _, at := range made {
		if gone[at] {
			continue
		}
		switch age := now.Sub(at); {
		case age < 24*time.Hour:
			kept["of the last day"]++
		case age < 14*24*time.Hour:
			kept["of a fortnight"]++
		case age < 92*24*time.Hour:
			kept["of a quarter"]++
		default:
			kept["older"]++
		}
	}
	assert.Equal(t, 4, kept["of the last day"])
	assert.InDelta(t, 14, kept["of a fortnight"], 1, "one of each day")
	assert.InDelta(t, 12, kept["of a quarter"], 1, "one of each week")
	assert.Zero(t, kept["older"])
	assert.Empty(t, upkeep.Outlived([]time.Time{now.Add(-9000 * time.Hour)}, now), "the newest is kept")
	assert.Empty(t, upkeep.Outlived(nil, now))

	var many []time.Time
	for i := range 600 {
		many = append(many, now.Add(-time.Duration(i)*time.Second))
	}
	assert.Len(t, upkeep.Outlived(many, now), 600-48-1, "copies made by hand are bounded: the newest, and one of the day")
}

// The service makes copies by itself and opens them; one is put in place on another
// machine, where everything goes on with the same passes and secrets.
func TestAStateMovesToAnotherMachine(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "copies")
	w := testkit.Start(t, map[string]string{"backup-dir": dir, "backup-every": "1m"})
	var c upkeep.Copies
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/copies", nil, &c)
		return len(c.Copies) == 1
	}, 20*time.Second, 10*time.Millisecond, "the first is made at the start")
	echo := testkit.Upstream(t, testkit.Echo("skf-canary-radio", nil))
	w.Register("radio", echo, "skf-canary-radio")
	pass := w.Agent("marit-quill")
	w.Rule("admit", "marit-quill", "radio", "*")
	w.Clock.Forward(time.Minute) // or it would have the name of the first
	w.Must("POST", "/api/copies", nil, &c)
	require.Len(t, c.Copies, 2)
	newest := c.Copies[0].File
	raw, err := os.ReadFile(newest)
	require.NoError(t, err)
	assert.False(t, bytes.Contains(raw, []byte("skf-canary")), "secrets stay sealed")
	info, err := os.Stat(newest)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	there := t.TempDir()
	s := settings(t, map[string]string{"data": there, "listen": "127.0.0.1:0", "process-user": "0"})
	refused := func(file string, s app.Settings, replace bool, why string) {
		t.Helper()
		_, err := app.Restore(t.Context(), s, file, replace)
		var start *app.StartError
		require.ErrorAs(t, err, &start)
		assert.Contains(t, start.What, why)
		assert.NotEmpty(t, start.Hint)
	}
	refused(newest, settings(t, map[string]string{"data": w.Dir}), true, "in use by another")
	refused(newest, s, false, "the key set cannot be read")
	keys, err := os.ReadFile(filepath.Join(w.Dir, "locker.keys"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(there, "locker.keys"), keys, 0o600))
	wrong := filepath.Join(t.TempDir(), "wrong.db")
	for text, why := range map[string]string{"hello": "no database", "": "no copy", string(raw[:len(raw)/2]): "damaged"} {
		require.NoError(t, os.WriteFile(wrong, []byte(text), 0o600))
		refused(wrong, s, false, why)
	}
	left := filepath.Join(t.TempDir(), "left.db")
	require.NoError(t, os.WriteFile(left, raw, 0o600))
	require.NoError(t, os.WriteFile(left+"-wal", []byte("newer"), 0o600))
	refused(left, s, false, "the newest of it stands in")
	refused(filepath.Join(there, "missing.db"), s, false, "cannot be restored")
	_, err = os.Stat(filepath.Join(there, "bouncer.db"))
	require.ErrorIs(t, err, os.ErrNotExist, "what was refused left nothing")

	out, err := app.Restore(t.Context(), s, newest, false)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1, 1}, []int{out.Servers, out.Agents, out.Secrets})
	refused(newest, s, false, "there is a state already")
	out, err = app.Restore(t.Context(), s, newest, true)
	require.NoError(t, err)
	_, err = store.Inspect(t.Context(), out.Before)
	require.NoError(t, err, "what was there is kept")

	w.Stop()
	moved := testkit.StartAs(t, map[string]string{"data": there}, w.Token)
	require.Eventually(t, func() bool {
		return moved.Raw("/mcp", pass, "2025-11-25").CallTool("radio__echo", "x").Error == nil
	}, 20*time.Second, 50*time.Millisecond)
}

// What is restored goes on with another chain of seals: calls that came after the copy were those of
// the chain before, and nobody took them out of this one.
func TestWhatIsRestoredBeginsAnotherChain(t *testing.T) {
	t.Parallel()
	chainOf := func(path string) string {
		s, err := store.Open(t.Context(), path, store.Options{})
		require.NoError(t, err)
		id, err := store.Chain(t.Context(), s)
		require.NoError(t, err)
		again, err := store.Chain(t.Context(), s)
		require.NoError(t, err)
		assert.Equal(t, id, again)
		require.NoError(t, s.Close())
		return id
	}
	copied, database := filepath.Join(t.TempDir(), "copy.db"), filepath.Join(t.TempDir(), "bouncer.db")
	first := chainOf(copied)
	_, err := upkeep.Restore(t.Context(), copied, database, nil, false, time.Now())
	require.NoError(t, err)
	assert.NotEqual(t, first, chainOf(database))
	assert.Equal(t, first, chainOf(copied), "the copy stays what it was")
	entries, err := os.ReadDir(filepath.Dir(database))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing is left beside it")
}

func settings(t *testing.T, values map[string]string) app.Settings {
	t.Helper()
	s, err := app.LoadSettings(values, func(string) string { return "" }, "")
	require.NoError(t, err)
	return s
}

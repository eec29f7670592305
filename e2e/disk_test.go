package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
)

// small is a file system of its own with so many MiB, or skips the test where none
// can be had.
func small(t *testing.T, size string) string {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	return dir
}

// fill takes all the room that there is, at once: what is given back for people is not taken too.
// It returns the file.
func fill(t *testing.T, dir string) string {
	path := filepath.Join(dir, "filling")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	for {
		var room syscall.Statfs_t
		require.NoError(t, syscall.Statfs(dir, &room))
		err := syscall.Fallocate(int(f.Fd()), 0, 0, int64(room.Bfree)*room.Bsize)
		if err == nil {
			return path
		}
		require.ErrorIs(t, err, syscall.ENOSPC, "somebody was quicker")
	}
}

func journalState(w *testkit.World) (s team.JournalState) {
	w.Must("GET", "/api/journal", nil, &s)
	return s
}

// On a full disk people can still pause, revoke and sign in; in strict mode nothing
// runs that cannot be recorded; when there is room again, everything goes on.
func TestAFullDiskStopsCallsAndNotPeople(t *testing.T) {
	t.Parallel()
	dir := small(t, "40m")
	w := testkit.Start(t, map[string]string{"data": filepath.Join(dir, "data"), "journal": "strict", "disk-reserve": "8"})
	echo := testkit.Echo("", nil)
	w.Register("echo", testkit.Upstream(t, echo), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	require.Equal(t, "before", agent.CallTool("echo__echo", "before").Result.Content[0].Text)
	filling := fill(t, dir)
	require.Eventually(t, func() bool { return !journalState(w).Recording }, 30*time.Second, 50*time.Millisecond)
	ran := echo.Calls()
	r := agent.CallTool("echo__echo", "while it is full")
	require.NotNil(t, r.Error)
	assert.Contains(t, r.Error.Message, "was not carried out")
	assert.Contains(t, r.Error.Message, "disk-reserve")
	assert.Equal(t, ran, echo.Calls(), "what cannot be recorded is not run")
	assert.NotEmpty(t, w.SignIn("marit", testkit.Password), "somebody signs in")
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	var passes []team.Pass
	w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	w.Must("DELETE", "/api/agents/marit-quill/passes/"+passes[0].ID, nil, nil)
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": false}, nil)
	assert.Contains(t, w.Log.String(), "the disk is")

	require.NoError(t, os.Remove(filling))
	require.Eventually(t, func() bool { return journalState(w).Recording }, 30*time.Second, 50*time.Millisecond)
	again := w.Raw("/mcp", w.Pass("marit-quill"), "2025-11-25")
	require.Equal(t, "after", again.CallTool("echo__echo", "after").Result.Content[0].Text)
	for _, text := range []string{"before", "after"} {
		w.Calls(1, "outcome=ok&text="+text)
	}
}

// In normal mode calls run on a full disk, and are counted as lost, loudly.
func TestNormalModeCountsWhatItLoses(t *testing.T) {
	t.Parallel()
	dir := small(t, "40m")
	w := testkit.Start(t, map[string]string{"data": filepath.Join(dir, "data"), "disk-reserve": "8"})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	fill(t, dir)
	require.Eventually(t, func() bool { return !journalState(w).Recording }, 30*time.Second, 50*time.Millisecond)
	for range 20 {
		require.Equal(t, "x", agent.CallTool("echo__echo", "x").Result.Content[0].Text)
	}
	require.Eventually(t, func() bool { return journalState(w).Lost == 20 }, 30*time.Second, 50*time.Millisecond)
	assert.Contains(t, w.Log.String(), "calls could not be recorded")
}

// A directory that cannot be written is told at the start.
func TestAReadOnlyDirectoryIsToldAtTheStart(t *testing.T) {
	t.Parallel()
	dir := small(t, "24m")
	data := filepath.Join(dir, "data")
	w := testkit.Start(t, map[string]string{"data": data})
	w.Stop()
	out, err := exec.Command("mount", "-o", "remount,ro", dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	says := start(t, "--data", data)
	assert.Contains(t, says, "the data directory "+data)
	assert.Contains(t, says, "read-only")
	assert.Contains(t, says, "hint:")
}

// start starts the service where it cannot start, and returns what it says.
func start(t *testing.T, args ...string) string {
	bin, err := binary()
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, bin, append([]string{"serve", "--listen", "127.0.0.1:0"}, args...)...)
	out, _ := cmd.CombinedOutput()
	assert.Equal(t, 1, cmd.ProcessState.ExitCode(), "%s", out)
	return string(out)
}

// damage overwrites the page of a table, but for its first.
func damage(t *testing.T, data, table string) {
	path := filepath.Join(data, "bouncer.db")
	s, err := store.Open(t.Context(), path, store.Options{})
	require.NoError(t, err)
	page, size, err := s.RootPage(t.Context(), table)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(bytes.Repeat([]byte{0xa5}, size), int64(page-1)*int64(size))
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// A damaged page of the state is told at the start, with what helps; one of the
// journal is told to whoever reads there, and calls go on.
func TestADamagedPageIsTold(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	w := testkit.Start(t, map[string]string{"data": state})
	w.Rule("admit", "*", "*", "*")
	w.Stop()
	damage(t, state, "rules")
	says := start(t, "--data", state)
	assert.Contains(t, says, "is damaged")
	assert.Contains(t, says, "bouncer backup")

	calls := filepath.Join(t.TempDir(), "calls")
	w = testkit.Start(t, map[string]string{"data": calls})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	for range 50 {
		agent.CallTool("echo__echo", strings.Repeat("x", 1000))
	}
	w.Calls(50, "")
	w.Stop()
	damage(t, calls, "segments")
	w = testkit.Start(t, map[string]string{"data": calls})
	p := w.Problem("GET", "/api/calls", nil)
	assert.Contains(t, p.Title, "damaged")
	assert.Contains(t, p.Hint, "backup")
	again := w.Raw("/mcp", w.Pass("marit-quill"), "2025-11-25")
	assert.Equal(t, "x", again.CallTool("echo__echo", "x").Result.Content[0].Text, "calls go on")
	require.Eventually(t, func() bool { return journalState(w).Lost > 0 }, 30*time.Second, 50*time.Millisecond, "and it is said that they are lost")
	assert.Contains(t, journalState(w).Why, "damaged")
}

// Bodies of those who are not signed in are small, and names of nobody are not kept.
func TestStrangersTakeNoRoom(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	big, err := json.Marshal(testkit.Obj{"name": strings.Repeat("x", 10<<20), "password": "x"})
	require.NoError(t, err)
	for _, path := range []string{"/api/session", "/api/tokens", "/api/join", "/api/session/elsewhere", "/oauth/register", "/oauth/token", "/oauth/revoke"} {
		res, err := http.Post(w.Base+path, "application/json", bytes.NewReader(big))
		if err != nil {
			continue // it was cut off before it had been sent
		}
		_, _ = io.Copy(io.Discard, res.Body)
		_ = res.Body.Close()
		if path != "/oauth/revoke" { // which says nothing, whatever it is given
			assert.GreaterOrEqual(t, res.StatusCode, 400, path)
		}
	}
	for _, name := range []string{strings.Repeat("x", 12_000), "marit\x00", "Marit", ""} {
		status, _ := w.Do("", "POST", "/api/tokens", testkit.Obj{"name": name, "password": "a-wrong-password"})
		assert.Contains(t, []int{401, 413, 429}, status)
	}
}

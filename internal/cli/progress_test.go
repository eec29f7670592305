package cli

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
)

// A start that takes long says what it is doing, and can be cancelled: then nothing is
// registered and nothing is left running.
func TestALongStartIsToldAndCancelled(t *testing.T) {
	t.Parallel()
	d := sit(t)
	runner, gate, pidFile := testkit.Runner(t)
	begin := func(ctx context.Context) (said *locked, done chan int) {
		said, done = &locked{}, make(chan int, 1)
		env := &Env{
			In: strings.NewReader(""), Out: &locked{}, Err: said, Getenv: func(string) string { return "" },
			Terminal: func() bool { return false }, Width: func() int { return 0 }, ConfigDir: filepath.Join(d.dir, "config"),
		}
		go func() { done <- Main(ctx, env, []string{"server", "register", "berths", "--", runner}) }()
		return said, done
	}
	told := func(said *locked) func() bool {
		return func() bool { return strings.Contains(said.String(), "berths: initialize, for") }
	}

	ctx, cancel := context.WithCancel(t.Context())
	said, done := begin(ctx)
	require.Eventually(t, told(said), 20*time.Second, 20*time.Millisecond)
	assert.Contains(t, said.String(), "last output: fetching package 3 of 12 (Ctrl-C cancels)")
	raw, err := os.ReadFile(pidFile)
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	require.NoError(t, err)
	cancel()
	assert.NotZero(t, <-done)
	assert.Contains(t, said.String(), "cancelled while berths was being reached")
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 20*time.Second, 20*time.Millisecond, "the process is gone")
	assert.Contains(t, d.ok("", "server", "list"), "no servers yet")

	said, done = begin(t.Context())
	require.Eventually(t, told(said), 20*time.Second, 20*time.Millisecond)
	require.NoError(t, os.WriteFile(gate, nil, 0o600))
	assert.Zero(t, <-done, said.String())
	assert.Regexp(t, `berths +ready`, d.ok("", "server", "list"))
}

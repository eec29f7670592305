package e2e

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
)

// made is the directory that binary builds into; empty while nobody has asked.
var made atomic.Pointer[string]

// binary builds the service once for the tests that need a process.
var binary = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "bouncer-e2e")
	if err != nil {
		return "", err
	}
	made.Store(&dir)
	path := filepath.Join(dir, "bouncer")
	cmd := exec.Command("go", "build", "-o", path, "bouncer/cmd/bouncer")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w\n%s", err, out)
	}
	return path, nil
})

func TestMain(m *testing.M) {
	code := m.Run()
	if dir := made.Load(); dir != nil {
		_ = os.RemoveAll(*dir)
	}
	os.Exit(code)
}

// serve starts the service as a process and returns its address and what it
// printed.
func serve(t *testing.T, args ...string) (cmd *exec.Cmd, base, said string) {
	bin, err := binary()
	require.NoError(t, err)
	cmd = exec.Command(bin, append([]string{"serve", "--listen", "127.0.0.1:0", "--first-admin", "marit"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	base = strings.TrimPrefix(lines.Text(), "Bouncer is listening on ")
	more := make(chan string, 1)
	go func() {
		if lines.Scan() {
			more <- lines.Text()
		}
	}()
	select {
	case said = <-more:
	case <-time.After(500 * time.Millisecond):
	}
	return cmd, base, said
}

// A kill in the middle of calls damages nothing, and in strict mode every call
// that was answered is on record.
func TestKillInTheMiddleOfCalls(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cmd, base, said := serve(t, "--data", dir, "--journal", "strict")
	once := regexp.MustCompile(`one-time password (\S+)`).FindStringSubmatch(said)
	require.NotNil(t, once, said)
	w := &testkit.World{T: t, Base: base}
	w.Token = w.SignIn("marit", once[1])
	w.Must("PUT", "/api/session/password", testkit.Obj{"old": once[1], "new": testkit.Password}, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("skf-canary-0123456789", nil)), "skf-canary-0123456789")
	w.Rule("admit", "*", "*", "*")
	var mu sync.Mutex
	answered := map[string]bool{}
	var dead atomic.Bool
	var wait sync.WaitGroup
	for i := range 4 {
		agent := w.Raw("/mcp", w.Agent(fmt.Sprintf("agent-%d", i)), "2025-11-25")
		wait.Go(func() {
			for n := 0; !dead.Load(); n++ {
				text := fmt.Sprintf("call-%d-%d.", i, n)
				body := `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"` + text + `"}}}`
				res, err := httpDo(agent.Request(context.Background(), "POST", body))
				if err != nil {
					return
				}
				if strings.Contains(res, text) {
					mu.Lock()
					answered[text] = true
					mu.Unlock()
				}
			}
		})
	}
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(answered) > 300 }, 3*time.Minute, time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	dead.Store(true)
	wait.Wait()
	_ = cmd.Wait()

	s, err := store.Open(t.Context(), filepath.Join(dir, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	require.NoError(t, s.Check(t.Context()))
	recorded := map[string]bool{}
	for before := calls.Key(0); ; {
		page, err := calls.In(s).Page(t.Context(), calls.Filter{Filter: segment.Filter{Before: before}, Limit: 500})
		require.NoError(t, err)
		for _, c := range page {
			full, err := calls.In(s).ByKey(t.Context(), c.Key)
			require.NoError(t, err)
			recorded[regexp.MustCompile(`call-\d+-\d+\.`).FindString(full.Arguments)] = true
			before = c.Key
		}
		if len(page) < 500 {
			break
		}
	}
	require.NoError(t, s.Close())
	for text := range answered {
		assert.True(t, recorded[text], "%s was answered and is not on record", text)
	}

	_, base, said = serve(t, "--data", dir, "--journal", "strict")
	assert.NotContains(t, said, "one-time", "a later start creates nobody")
	w.Base = base
	w.Register("again", testkit.Upstream(t, testkit.Echo("", nil)), "")
	agent := w.Raw("/mcp", w.Pass("agent-0"), "2025-11-25")
	require.Eventually(
		t,
		func() bool { r := agent.CallTool("echo__echo", "after"); return len(r.Result.Content) == 1 },
		30*time.Second,
		50*time.Millisecond,
		"the sealed token still opens, and the rules still hold",
	)
}

func TestStartIsRefusedWithTheReason(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, base, _ := serve(t, "--data", dir)
	port := base[strings.LastIndex(base, ":")+1:]
	blocked := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(blocked, nil, 0o600))
	newer := t.TempDir()
	s, err := store.Open(t.Context(), filepath.Join(newer, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	raw, err := os.ReadFile(filepath.Join(newer, "bouncer.db"))
	require.NoError(t, err)
	raw[60], raw[61], raw[62], raw[63] = 0, 0, 0, 99 // user_version in the header of the file
	require.NoError(t, os.WriteFile(filepath.Join(newer, "bouncer.db"), raw, 0o600))
	config := filepath.Join(t.TempDir(), "bouncer.yaml")
	require.NoError(t, os.WriteFile(config, []byte("listen: 127.0.0.1:0\nlog-levle: debug\n"), 0o600))
	lost := t.TempDir()
	for name, row := range map[string]struct {
		args []string
		code int
		says []string
	}{
		"a data directory in use":    {[]string{"--data", dir, "--listen", "127.0.0.1:0"}, 1, []string{"is in use by another", "--data"}},
		"a port in use":              {[]string{"--data", t.TempDir(), "--listen", "127.0.0.1:" + port}, 1, []string{"address already in use", "--listen"}},
		"a file as data directory":   {[]string{"--data", filepath.Join(blocked, "x"), "--listen", "127.0.0.1:0"}, 1, []string{"not a directory", "--data"}},
		"a database from the future": {[]string{"--data", newer, "--listen", "127.0.0.1:0"}, 1, []string{"schema 99", "newer Bouncer"}},
		"an unknown key in the file": {[]string{"--config", config, "--data", lost}, 2, []string{"log-levle", "line 2", "log-level"}},
		"a bad value":                {[]string{"--data", lost, "--journal", "maybe"}, 2, []string{"setting journal", "flag --journal", "normal or strict"}},
		"an unknown flag":            {[]string{"--colour", "red"}, 2, []string{"colour", "-h"}},
		"a limit outside its bounds": {[]string{"--data", lost, "--body-limit", "12"}, 2, []string{"body-limit", "bytes from"}},
		"an address without a port":  {[]string{"--data", lost, "--listen", "localhost"}, 2, []string{"listen", "host:port"}},
	} {
		t.Run(name, func(t *testing.T) {
			bin, err := binary()
			require.NoError(t, err)
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
			defer cancel()
			cmd := exec.CommandContext(ctx, bin, append([]string{"serve"}, row.args...)...)
			out, _ := cmd.CombinedOutput()
			assert.Equal(t, row.code, cmd.ProcessState.ExitCode(), "%s", out)
			for _, want := range row.says {
				assert.Contains(t, string(out), want)
			}
		})
	}
	entries, err := os.ReadDir(lost)
	require.NoError(t, err)
	assert.Empty(t, entries, "a refused start leaves nothing behind")
}

func TestInterruptEndsTheServiceInOrder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cmd, base, _ := serve(t, "--data", dir)
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	for path, want := range map[string]string{"/healthz": "ok\n", "/readyz": "ready\n"} {
		req, err := newRequest(base + path)
		require.NoError(t, err)
		text, err := httpDo(req)
		require.NoError(t, err)
		assert.Equal(t, want, text)
	}
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case err := <-done:
		assert.NoError(t, err, "an orderly end is no failure")
	case <-time.After(30 * time.Second):
		t.Fatal("the service does not end")
	}
	_, err = os.Stat(filepath.Join(dir, "bouncer.db-wal"))
	assert.ErrorIs(t, err, os.ErrNotExist, "the log is folded into the database")
}

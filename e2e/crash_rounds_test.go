package e2e

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
)

// rounds is how often the service is killed: a few times among all tests, a thousand
// times by make crash.
func rounds(t *testing.T) int {
	v := os.Getenv("BOUNCER_CRASHES")
	if v == "" {
		return 8
	}
	n, err := strconv.Atoi(v)
	require.NoError(t, err)
	return n
}

// begin starts the service on a data directory and returns as soon as it listens.
func begin(t *testing.T, args ...string) (cmd *exec.Cmd, base string, lines *bufio.Scanner) {
	bin, err := binary()
	require.NoError(t, err)
	cmd = exec.Command(bin, append([]string{"serve", "--first-admin", "marit", "--process-user", strconv.Itoa(os.Getuid())}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines = bufio.NewScanner(out)
	require.True(t, lines.Scan(), "it does not start")
	return cmd, strings.TrimPrefix(lines.Text(), "Bouncer is listening on "), lines
}

// local is the command of a tool server that leaves a child in a session of its own,
// and notes every process that it is.
func local(t *testing.T, noted string) string {
	path := filepath.Join(t.TempDir(), "server.sh")
	body := `#!/bin/sh
echo $$ >> ` + noted + `
setsid sh -c 'echo $$ >> ` + noted + `; exec sleep 600' > /dev/null 2>&1 < /dev/null &
while read -r line; do
  id=$(printf '%s' "$line" | sed -n 's/.*"id":\([0-9]*\).*/\1/p')
  case "$line" in
  *'"initialize"'*) printf '{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{"tools":{}},"serverInfo":{"name":"s","version":"1"}}}\n' "$id" ;;
  *'"tools/list"'*) printf '{"jsonrpc":"2.0","id":%s,"result":{"tools":[{"name":"act","inputSchema":{"type":"object"}}]}}\n' "$id" ;;
  esac
done
sleep 600
`
	require.NoError(t, os.WriteFile(path, []byte(body), 0o700)) //nolint:gosec // it is started
	return path
}

// ledger is what must be true after a kill.
type ledger struct {
	began    time.Time
	mu       sync.Mutex      // guards what follows
	answered map[string]bool // texts of calls that were answered
	added    map[string]bool // agents whose adding was answered
}

// Killed at random moments under load, in strict mode: nothing that was answered is
// missing, nothing is half done, and no process is left behind.
func TestKilledAgainAndAgain(t *testing.T) {
	t.Parallel()
	dir, noted := t.TempDir(), filepath.Join(t.TempDir(), "noted")
	args := []string{"--data", dir, "--journal", "strict", "--listen", "127.0.0.1:0", "--log-level", "error"}
	cmd, base, lines := begin(t, args...)
	require.True(t, lines.Scan())
	once := regexp.MustCompile(`one-time password (\S+)`).FindStringSubmatch(lines.Text())
	require.NotNil(t, once)
	w := &testkit.World{T: t, Base: base}
	w.Token = w.SignIn("marit", once[1])
	w.Must("PUT", "/api/session/password", testkit.Obj{"old": once[1], "new": testkit.Password}, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Must("POST", "/api/servers", testkit.Obj{"name": "local", "command": local(t, noted)}, nil)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	total := 0
	for round := range rounds(t) {
		l := &ledger{began: time.Now().Add(-time.Second), answered: map[string]bool{}, added: map[string]bool{}}
		var dead atomic.Bool
		var wait sync.WaitGroup
		for i := range 3 {
			wait.Go(func() { l.call(t, w, pass, fmt.Sprintf("call-%d-%d", round, i), &dead) })
		}
		wait.Go(func() { l.alter(w, round, &dead) })
		time.Sleep(time.Duration(rand.IntN(250)) * time.Millisecond) // the moment is what is tried
		require.NoError(t, cmd.Process.Kill())
		dead.Store(true)
		wait.Wait()
		_ = cmd.Wait()
		before := pids(t, noted)
		total += l.hold(t, dir)
		cmd, base, _ = begin(t, args...)
		w.Base = base
		for _, pid := range before {
			assert.Eventually(t, func() bool { return gone(pid) }, 20*time.Second, 10*time.Millisecond, "process %d is left behind", pid)
		}
	}
	t.Logf("%d calls were answered", total)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())
	for _, pid := range pids(t, noted) {
		assert.Eventually(t, func() bool { return gone(pid) }, 20*time.Second, 10*time.Millisecond, "process %d outlives an orderly end", pid)
	}
}

// call calls a tool until the service is dead, and notes what was answered.
func (l *ledger) call(t *testing.T, w *testkit.World, pass, name string, dead *atomic.Bool) {
	agent := &testkit.Raw{T: t, URL: w.Base + "/mcp/echo", Pass: pass}
	for n := 0; !dead.Load(); n++ {
		text := fmt.Sprintf("%s-%d.", name, n)
		body := `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo","arguments":{"text":"` + text + `"},` +
			`"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}}}}`
		req := agent.Request(context.Background(), "POST", body)
		req.Header.Set("Mcp-Protocol-Version", "2026-07-28")
		req.Header.Set("Mcp-Method", "tools/call")
		req.Header.Set("Mcp-Name", "echo")
		if res, err := httpDo(req); err == nil && strings.Contains(res, text) {
			l.mu.Lock()
			l.answered[text] = true
			l.mu.Unlock()
		}
	}
}

// alter adds agents until the service is dead, and notes which were.
func (l *ledger) alter(w *testkit.World, round int, dead *atomic.Bool) {
	for n := 0; !dead.Load() && n < 150; n++ {
		name := fmt.Sprintf("a-%d-%d", round, n)
		req, err := http.NewRequestWithContext(context.Background(), "POST", w.Base+"/api/agents", strings.NewReader(`{"name":"`+name+`"}`))
		if err != nil {
			return
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+w.Token)
		if res, err := httpDo(req); err == nil && strings.Contains(res, `"id"`) {
			l.mu.Lock()
			l.added[name] = true
			l.mu.Unlock()
		}
	}
}

// hold holds the database against what was answered.
func (l *ledger) hold(t *testing.T, dir string) int {
	s, err := store.Open(t.Context(), filepath.Join(dir, "bouncer.db"), store.Options{})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	require.NoError(t, s.Check(t.Context()))
	for text := range l.answered {
		found, err := calls.In(s).Page(t.Context(), calls.Filter{Filter: segment.Filter{Text: text, Since: l.began}, Limit: 1})
		require.NoError(t, err)
		assert.Len(t, found, 1, "%s was answered and is not on record", text)
	}
	agents, err := s.Agents(t.Context(), time.Now())
	require.NoError(t, err)
	have := map[string]bool{}
	for _, a := range agents {
		have[a.Name] = true
	}
	changes, err := s.Changes(t.Context(), 500)
	require.NoError(t, err)
	recorded := map[string]bool{}
	for _, c := range changes {
		recorded[c.Subject] = recorded[c.Subject] || c.What == "agent.add"
	}
	for name := range l.added {
		assert.True(t, have[name] && recorded[name], "agent %s was added and is not there with its record", name)
	}
	for name := range recorded {
		assert.True(t, !recorded[name] || have[name], "agent %s is on record and not there", name)
	}
	return len(l.answered)
}

// pids are the processes that were noted.
func pids(t *testing.T, noted string) (out []int) {
	raw, err := os.ReadFile(noted)
	require.NoError(t, err)
	for _, line := range strings.Fields(string(raw)) {
		if pid, err := strconv.Atoi(line); err == nil {
			out = append(out, pid)
		}
	}
	return out
}

// gone reports whether a process has ended, if only its parent has not looked yet.
func gone(pid int) bool {
	if syscall.Kill(pid, 0) != nil {
		return true
	}
	raw, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err != nil || strings.Contains(string(raw), ") Z ")
}

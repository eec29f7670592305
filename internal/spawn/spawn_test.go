package spawn

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/gate"
)

func spawner(t *testing.T, o Options) *Spawner {
	t.Helper()
	s, err := New(o)
	require.NoError(t, err)
	return s
}

// shell is a process that runs a line, with PATH and nothing else.
func shell(line string) *exec.Cmd {
	return &exec.Cmd{Path: "/bin/sh", Args: []string{"sh", "-c", line}, Env: []string{"PATH=" + os.Getenv("PATH")}}
}

func alive(pid int) bool { return syscall.Kill(pid, 0) == nil }

func TestNothingIsStartedWhenProcessesAreOff(t *testing.T) {
	t.Parallel()
	marker := filepath.Join(t.TempDir(), "ran")
	_, err := spawner(t, Options{Off: true}).Start(t.Context(), shell("touch "+marker), "berths", 0)
	assert.ErrorAs(t, err, new(OffError))
	assert.NoFileExists(t, marker)
}

func TestProcessesOfOneServerAreBounded(t *testing.T) {
	t.Parallel()
	s := spawner(t, Options{})
	var running []*Process
	for range 2 {
		cmd := shell("sleep 60")
		p, err := s.Start(t.Context(), cmd, "berths", 2)
		require.NoError(t, err)
		running = append(running, p)
		t.Cleanup(func() { p.Signal(syscall.SIGKILL); _ = cmd.Wait(); p.Ended() })
	}
	var full *gate.FullError
	_, err := s.Start(t.Context(), shell("true"), "berths", 2)
	require.ErrorAs(t, err, &full)
	assert.Contains(t, full.Error(), "berths")
	other := shell("true")
	p, err := s.Start(t.Context(), other, "tides", 2)
	require.NoError(t, err, "others go on")
	require.NoError(t, other.Wait())
	p.Ended()
	running[0].Signal(syscall.SIGKILL)
	running[0].Ended()
	running[0].Ended() // ending twice is ending once
	again := shell("true")
	p, err = s.Start(t.Context(), again, "berths", 2)
	require.NoError(t, err, "a place is free")
	_ = again.Wait()
	p.Ended()
	_, err = s.Start(t.Context(), &exec.Cmd{Path: "/nowhere/at/all"}, "tides", 1)
	require.Error(t, err)
	_, err = s.Start(t.Context(), &exec.Cmd{Path: "/nowhere/at/all"}, "tides", 1)
	assert.NotErrorAs(t, err, &full, "what did not start takes no place")
}

// stray starts a process that leaves its group, and returns it with that one's id.
func stray(t *testing.T, s *Spawner) (*Process, *exec.Cmd, int) {
	t.Helper()
	if runtime.GOOS != "linux" {
		t.Skip("the environments of processes cannot be read here")
	}
	file := filepath.Join(t.TempDir(), "pid")
	cmd := shell("setsid sh -c 'echo $$ > " + file + ".new; mv " + file + ".new " + file + "; sleep 60' & sleep 60")
	p, err := s.Start(t.Context(), cmd, "berths", 0)
	require.NoError(t, err)
	pid := 0
	require.Eventually(t, func() bool {
		raw, err := os.ReadFile(file)
		if err == nil {
			pid, _ = strconv.Atoi(strings.TrimSpace(string(raw)))
		}
		return pid > 0
	}, 20*time.Second, 5*time.Millisecond)
	return p, cmd, pid
}

func TestWhatLeavesTheGroupIsEndedToo(t *testing.T) {
	t.Parallel()
	s := spawner(t, Options{})
	p, cmd, pid := stray(t, s)
	p.Signal(syscall.SIGKILL)
	_ = cmd.Wait()
	assert.True(t, alive(pid), "it has left the group")
	p.Ended()
	assert.Eventually(t, func() bool { return !alive(pid) || zombie(pid) }, 30*time.Second, 5*time.Millisecond)
}

// A service that was killed leaves processes and secrets behind; the next one of the
// same directory ends them, and touches nobody else's.
func TestWhatWasLeftBehindIsSweptUp(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	killed, other := spawner(t, Options{Dir: dir}), spawner(t, Options{Dir: t.TempDir()})
	p, cmd, pid := stray(t, killed)
	theirs, theirCmd, theirPID := stray(t, other)
	path, err := killed.Secrets().Put("KEY_FILE", "skf-canary")
	require.NoError(t, err)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "skf-canary", string(raw))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	next := spawner(t, Options{Dir: dir})
	assert.NoFileExists(t, path)
	_ = cmd.Wait() // the test is its parent; nobody else would be by now
	assert.Eventually(t, func() bool { return !alive(pid) || zombie(pid) }, 30*time.Second, 5*time.Millisecond)
	assert.True(t, alive(theirPID))
	theirs.Signal(syscall.SIGKILL)
	_ = theirCmd.Wait()
	theirs.Ended()
	p.Ended()
	secrets := next.Secrets()
	require.NoError(t, secrets.Remove(), "none were there")
	path, err = secrets.Put("A", "x")
	require.NoError(t, err)
	require.NoError(t, secrets.Remove())
	assert.NoFileExists(t, path)
}

func zombie(pid int) bool {
	raw, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err != nil || strings.Contains(string(raw), ") Z ")
}

func TestProcessesRunAsAnotherUser(t *testing.T) {
	t.Parallel()
	_, err := New(Options{User: "nobody-of-that-name"})
	assert.ErrorContains(t, err, "no user")
	if os.Getuid() != 0 {
		_, err := New(Options{User: "root"})
		require.ErrorContains(t, err, "only root")
		return
	}
	s := spawner(t, Options{User: "65534", Dir: t.TempDir()})
	secrets := s.Secrets()
	defer func() { assert.NoError(t, secrets.Remove()) }()
	path, err := secrets.Put("KEY_FILE", "skf-canary")
	require.NoError(t, err)
	cmd := shell("id -u; cat " + path + "; cat /proc/" + strconv.Itoa(os.Getpid()) + "/environ 2>&1")
	var out strings.Builder
	cmd.Stdout = &out
	p, err := s.Start(t.Context(), cmd, "berths", 0)
	require.NoError(t, err)
	_ = cmd.Wait()
	p.Ended()
	assert.Contains(t, out.String(), "65534\nskf-canary", "its own secret it can read")
	assert.Contains(t, out.String(), "denied", "and nothing of the service")
}

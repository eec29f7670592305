package stdio

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/linktest"
	"bouncer/internal/locker"
	"bouncer/standin/toolserver"
)

func TestProcessesAreKeptWithinTheirLimits(t *testing.T) {
	t.Parallel()
	if !serverspec.LimitsKept {
		t.Skip("limits are kept on Linux only")
	}
	for name, row := range map[string]struct {
		limits Limits
		play   string
		says   string
	}{
		"memory":    {Limits{MemoryMiB: 60}, "greedy", "MiB of memory; the limit is 60"},
		"processes": {Limits{Processes: 1}, "stubborn", "it ran 2 processes; the limit is 1"},
	} {
		t.Run(name, func(t *testing.T) {
			p := New(
				Command{Server: "actor", Command: os.Args[0], Env: map[string]string{"PLAY": row.play}, Limits: row.limits},
				link.Options{SetupTimeout: 30 * time.Second},
			)
			defer p.Close(context.Background())
			var err error
			for range 10 {
				if _, err = Say(t.Context(), p, "slow"); err != nil {
					break
				}
			}
			var f *link.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, diagnosis.OverLimit, f.Cause)
			assert.Contains(t, f.Message, row.says)
		})
	}
	p := New(
		Command{Server: "actor", Command: os.Args[0], Env: map[string]string{"PLAY": "files"}, Limits: Limits{OpenFiles: 40}},
		link.Options{SetupTimeout: 30 * time.Second},
	)
	defer p.Close(context.Background())
	got, err := Say(t.Context(), p, "files")
	require.NoError(t, err)
	assert.Equal(t, "40", got)
}

// A process that says what it is doing gets the time that it needs; one that is silent
// gets what it is given.
func TestAStartThatSaysWhatItDoes(t *testing.T) {
	t.Parallel()
	var progress link.Progress
	p := New(
		Command{Server: "actor", Command: os.Args[0], Env: map[string]string{"PLAY": "runner"}},
		link.Options{SetupTimeout: 3 * time.Second, Progress: &progress},
	)
	defer p.Close(context.Background())
	opened := make(chan error, 1)
	go func() {
		_, err := p.Open(t.Context())
		opened <- err
	}()
	require.Eventually(t, func() bool {
		step, ok := progress.At("actor")
		return ok && step.Stage == "initialize" && strings.HasPrefix(step.Words, "fetching ")
	}, 30*time.Second, 5*time.Millisecond)
	require.NoError(t, <-opened)
	_, ok := progress.At("actor")
	assert.False(t, ok, "what is done is forgotten")
}

// TestMain lets the test binary play the processes that the tests start.
func TestMain(m *testing.M) {
	if play := os.Getenv("PLAY"); play != "" {
		os.Exit(act(play))
	}
	os.Exit(m.Run())
}

func act(play string) int {
	out := func(line string) { fmt.Println(line) }
	s := toolserver.New("actor", "1.0", "")
	say := toolserver.Tool{Name: "echo", Schema: `{"type":"object"}`, Run: func(_ context.Context, c *toolserver.Call) (any, error) {
		switch text := c.Text("text"); text {
		case "die":
			os.Exit(7)
		case "environment":
			return strings.Join(os.Environ(), "\n"), nil
		case "more":
			s.SetTools(toolserver.Tool{Name: "echo", Schema: `{}`}, toolserver.Tool{Name: "more", Schema: `{}`})
		case "files": // how many it may have open
			var r syscall.Rlimit
			_ = syscall.Getrlimit(syscall.RLIMIT_NOFILE, &r)
			return fmt.Sprint(r.Cur), nil
		case "huge":
			return strings.Repeat("x", 100<<10), nil
		case "slow":
			c.Progress(1, 2, "half")
			time.Sleep(300 * time.Millisecond)
		}
		return c.Text("text"), nil
	}}
	s.SetTools(say)
	switch play {
	case "exits":
		fmt.Fprintln(os.Stderr, "the variable HARBOUR is missing; the key was skf-canary-0123456789")
		return 3
	case "runner": // fetches something first, and says so
		for i := range 80 {
			fmt.Fprintf(os.Stderr, "fetching %d of 80\n", i+1)
			time.Sleep(50 * time.Millisecond)
		}
	case "chatty": // writes a greeting for people and nothing else
		out("Welcome to the harbour!")
		_, _ = io.Copy(io.Discard, os.Stdin)
		return 0
	case "killed":
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
	case "leaves": // answers initialize, and nothing is read after that
		in := bufio.NewScanner(os.Stdin)
		in.Scan()
		_ = os.Stdin.Close()
		out(`{"jsonrpc":"2.0","id":1,"result":{"protocolVersion":"2025-11-25","capabilities":{},"serverInfo":{"name":"a","version":"1"}}}`)
		syscall.Exit(5)
	case "mute":
		_, _ = io.Copy(io.Discard, os.Stdin)
		return 0
	case "stubborn": // ignores both the end of its input and SIGTERM, and has a child
		child := exec.Command("sleep", "300")
		_ = child.Start()
		fmt.Fprintln(os.Stderr, child.Process.Pid)
		signalIgnore()
		go func() { _ = s.ServeStdio(context.Background(), os.Stdin, os.Stdout) }()
		select {}
	case "greedy":
		hoard := make([]byte, 200<<20)
		for i := 0; i < len(hoard); i += 4096 {
			hoard[i] = 1
		}
		defer func() { _ = hoard[0] }()
	case "noisy":
		s.Fail(toolserver.Noisy)
	case "asks": // asks its client for something before it answers
		in := bufio.NewScanner(os.Stdin)
		in.Scan()
		out(`{"jsonrpc":"2.0","id":"q","method":"sampling/createMessage"}`)
		in.Scan()
		fmt.Fprintln(os.Stderr, in.Text())
		return 0
	}
	if err := s.ServeStdio(context.Background(), os.Stdin, os.Stdout); err != nil {
		return 1
	}
	return 0
}

func StartForTest(t *testing.T, play string) *Conn {
	p := New(
		Command{
			Server:    "actor",
			Command:   os.Args[0],
			Env:       map[string]string{"PLAY": play},
			SecretEnv: "KEY",
			Secret:    locker.NewSecret(linktest.Token),
		},
		link.Options{SetupTimeout: 30 * time.Second, MessageLimit: 64 << 10},
	)
	t.Cleanup(func() { p.Close(context.Background()) })
	return p
}

// PID is the process that runs now; 0 for none.
func (p *Conn) PID() int {
	if c := p.current.Load(); c != nil && !c.Over() {
		return c.cmd.Process.Pid
	}
	return 0
}

func Say(ctx context.Context, p *Conn, text string) (string, error) {
	x, err := p.Begin(ctx, linktest.ToolCall(fmt.Sprintf("{\"name\":\"echo\",\n\"arguments\":{\"text\":%q}}", text)))
	if err != nil {
		return "", err
	}
	defer x.Close()
	frame, f, err := base.ReadAnswer(ctx, x)
	if err != nil {
		return "", err
	}
	content := wire.Member(frame, f.Result, "content")
	var out string
	err = wire.Elements(
		frame,
		content,
		func(s wire.Span) error { out, _ = wire.StringAt(frame, wire.Member(frame, s, "text")); return nil },
	)
	return out, err
}

func TestLaunchFailuresAreToldApart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	plain := filepath.Join(dir, "plain")
	require.NoError(t, os.WriteFile(plain, []byte("no program"), 0o600))
	broken := filepath.Join(dir, "broken")
	require.NoError(t, os.WriteFile(broken, []byte("#!/nonexistent/interpreter\n"), 0o700))
	for name, row := range map[string]struct {
		c    Command
		want diagnosis.Cause
		says string
	}{
		"no such command":          {Command{Command: "no-such-command-here"}, diagnosis.CommandNotFound, "no-such-command-here"},
		"no such file":             {Command{Command: dir + "/gone"}, diagnosis.CommandNotFound, "gone"},
		"a file without the right": {Command{Command: plain}, diagnosis.NotExecutable, "plain"},
		"no such interpreter":      {Command{Command: broken}, diagnosis.NotExecutable, "no such file"},
		"a whole command line":     {Command{Command: "node server.js --port 1"}, diagnosis.LineInCommand, "node server.js"},
		"a relative path":          {Command{Command: "./server"}, diagnosis.RelativePath, "./server"},
		"no such directory":        {Command{Command: "cat", Dir: dir + "/gone"}, diagnosis.DirMissing, "gone"},
		"ends at once":             {Command{Env: map[string]string{"PLAY": "exits"}}, diagnosis.SettingMissing, "code 3, having written: the variable HARBOUR is missing; the key was [masked]"},
		"a script that is not":     {Command{Command: "sh", Args: []string{dir + "/gone.sh"}}, diagnosis.ScriptMissing, "gone.sh"},
		"a script of nowhere":      {Command{Command: "sh", Args: []string{"server.sh"}}, diagnosis.ScriptMissing, "no working directory is given"},
		"a script of elsewhere":    {Command{Command: "sh", Args: []string{"server.sh"}, Dir: dir}, diagnosis.ScriptMissing, "server.sh in " + dir},
		"arguments in one":         {Command{Env: map[string]string{"PLAY": "exits"}, Args: []string{"--quay 7"}}, diagnosis.GluedArguments, "--quay 7"},
		"is killed":                {Command{Env: map[string]string{"PLAY": "killed"}}, diagnosis.Killed, "killed before"},
		"leaves after a greeting":  {Command{Env: map[string]string{"PLAY": "leaves"}}, diagnosis.ExitsAtOnce, "ended with code 5"},
		"talks to people":          {Command{Env: map[string]string{"PLAY": "chatty"}}, diagnosis.NoiseOnStdout, "something else"},
		"never answers":            {Command{Env: map[string]string{"PLAY": "mute"}}, diagnosis.NeverAnswers, "does not answer"},
		"ends after a question":    {Command{Env: map[string]string{"PLAY": "asks"}}, diagnosis.ExitsAtOnce, `"id":"q","error":{"code":-32601`},
	} {
		t.Run(name, func(t *testing.T) {
			if row.c.Command == "" {
				row.c.Command = os.Args[0]
			}
			row.c.Secret = locker.NewSecret(linktest.Token)
			// The race detector lets a process sleep for a second before it ends.
			p := New(row.c, link.Options{SetupTimeout: 2500 * time.Millisecond})
			st := link.Assess(p.Probe(t.Context()))
			require.Equal(t, team.StateFailing, st.State)
			assert.Equal(t, row.want, st.Finding.Cause, st.Finding.Message)
			assert.Contains(t, st.Finding.Message, row.says)
			assert.Nil(t, p.current.Load(), "nothing is left running")
		})
	}
}

func TestProcessIsStartedOnceAndShared(t *testing.T) {
	p := StartForTest(t, "plain")
	var wait sync.WaitGroup
	for i := range 20 {
		wait.Go(func() {
			text := fmt.Sprintf("call %d", i)
			got, err := Say(t.Context(), p, text)
			assert.NoError(t, err)
			assert.Equal(t, text, got)
		})
	}
	wait.Wait()
	pid := p.current.Load().cmd.Process.Pid
	st := link.Assess(p.Probe(t.Context()))
	require.Equal(t, team.StateReady, st.State)
	assert.Equal(t, "actor 1.0 2025-11-25", st.ServerName+" "+st.ServerVersion+" "+st.Revision)
	assert.Equal(t, pid, p.current.Load().cmd.Process.Pid)

	t.Setenv("BOUNCERS_OWN", "must not leak")
	p.Close(t.Context())
	env, err := Say(t.Context(), p, "environment")
	require.NoError(t, err)
	assert.NotContains(t, env, "BOUNCERS_OWN")
	assert.Contains(t, env, "KEY="+linktest.Token)
	assert.NotEqual(t, pid, p.current.Load().cmd.Process.Pid, "after Close another one is started")
}

func TestMisbehavingProcessHarmsTheCallConcernedOnly(t *testing.T) {
	t.Parallel()
	p := StartForTest(t, "noisy")
	for range 3 {
		got, err := Say(t.Context(), p, "through the noise")
		require.NoError(t, err)
		assert.Equal(t, "through the noise", got)
	}
	noise := p.Diagnostics().Noise
	assert.Equal(t, 4, noise, "one line for each answer, that to initialize included")

	var f *link.Failure
	_, err := Say(t.Context(), p, "huge")
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.TooLarge, f.Cause)
	got, err := Say(t.Context(), p, "fine")
	require.NoError(t, err)
	assert.Equal(t, "fine", got)

	// It dies in the middle of ten calls: each is told that the outcome is unknown,
	// and the next call finds a fresh process.
	var wait sync.WaitGroup
	for range 10 {
		wait.Go(func() {
			_, err := Say(t.Context(), p, "slow")
			var f *link.Failure
			if assert.ErrorAs(t, err, &f) {
				assert.Equal(t, diagnosis.OutcomeUnknown, f.Cause)
				assert.Contains(t, f.Error(), "ended with code 7")
				assert.False(t, f.Refused)
			}
		})
	}
	time.Sleep(100 * time.Millisecond)
	_, err = Say(t.Context(), p, "die")
	require.Error(t, err)
	wait.Wait()
	got, err = Say(t.Context(), p, "again")
	require.NoError(t, err)
	assert.Equal(t, "again", got)

	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = Say(ctx, p, "slow")
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.CallTimeout, f.Cause)
	assert.Zero(t, p.current.Load().Waiting(), "nothing waits for an answer that nobody wants")
}

func TestProgressFindsItsCall(t *testing.T) {
	t.Parallel()
	p := StartForTest(t, "plain")
	x, err := p.Begin(t.Context(), linktest.ToolCall(`{"_meta":{"progressToken":"agents own"},"name":"echo","arguments":{"text":"slow"}}`))
	require.NoError(t, err)
	defer x.Close()
	frame, f, err := x.Next()
	require.NoError(t, err)
	assert.Equal(t, "notifications/progress", f.Method, string(frame))
	_, f, err = x.Next()
	require.NoError(t, err)
	assert.Equal(t, wire.Response, f.Kind)
}

func TestStubbornProcessEndsWithItsChildren(t *testing.T) {
	t.Parallel()
	p := StartForTest(t, "stubborn")
	_, err := Say(t.Context(), p, "hello")
	require.NoError(t, err)
	var grandchild int
	require.Eventually(t, func() bool { // its standard error is read beside its answers
		n, _ := fmt.Sscan(p.Diagnostics().Stderr, &grandchild)
		return n == 1
	}, 20*time.Second, time.Millisecond)
	own := p.current.Load().cmd.Process.Pid
	began := time.Now()
	p.Close(t.Context())
	assert.Less(t, time.Since(began), 20*time.Second)
	gone := func(pid int) bool {
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		return err != nil || strings.Contains(string(raw), ") Z ")
	}
	assert.True(t, gone(own))
	require.Eventually(t, func() bool { return gone(grandchild) }, 30*time.Second, 10*time.Millisecond, "no orphans")
}

func FuzzLineReader(f *testing.F) {
	f.Add([]byte("a\nbb\r\n\nccc"), 2)
	f.Fuzz(func(t *testing.T, b []byte, limit int) {
		if limit < 1 || limit > 1000 {
			return
		}
		l := newLineReader(strings.NewReader(string(b)), limit)
		for range len(b) + 2 {
			line, head, tail, err := l.next()
			if err != nil {
				return
			}
			if len(line) > limit || len(head) > kept || len(tail) > kept {
				t.Fatalf("a line of %d bytes, the limit is %d", len(line), limit)
			}
		}
		t.Fatal("more lines than bytes")
	})
}

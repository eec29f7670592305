// Command firsthour goes through what a newcomer does, from an empty directory to three
// servers of three kinds, two people, a call that is admitted and one that is refused,
// and prints each command with the seconds it took.
package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
	"bouncer/standin/quill"
)

const password = "seven-tides-turning"

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "first hour:", err)
		os.Exit(1)
	}
}

// hour is one newcomer's hour.
type hour struct {
	bin, dir string
	base     string
	commands int
	took     time.Duration
}

func run(ctx context.Context) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "first-hour")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	h := &hour{bin: filepath.Join(filepath.Dir(self), "bouncer"), dir: dir}
	sailings, stop, err := serve(ferries.Sailings(ferries.SailingsToken))
	if err != nil {
		return err
	}
	defer stop()
	lost, stop, err := serve(lostproperty.New(ferries.LostKey))
	if err != nil {
		return err
	}
	defer stop()
	end, err := h.start(ctx)
	if err != nil {
		return err
	}
	defer end()
	return h.walk(ctx, sailings, lost, filepath.Join(filepath.Dir(self), "berths"))
}

// serve runs a stand-in on a free port.
func serve(handler http.Handler) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	done := make(chan struct{})
	go func() { defer close(done); _ = srv.Serve(l) }()
	return "http://" + l.Addr().String(), func() { _ = srv.Close(); <-done }, nil
}

// start runs the service, as a newcomer does, and waits until it listens.
func (h *hour) start(ctx context.Context) (end func(), err error) {
	args := []string{
		"serve", "--data", filepath.Join(h.dir, "data"), "--listen", "127.0.0.1:0", "--first-admin", "marit", "--first-password", "stdin",
		"--process-user", fmt.Sprint(os.Getuid()),
	}
	fmt.Printf("$ bouncer %s < password.txt &\n", strings.Join(args[:1], " "))
	cmd := exec.CommandContext(ctx, h.bin, args...)
	cmd.Stdin = strings.NewReader(password)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w (make build makes it)", err)
	}
	listening := regexp.MustCompile(`listening on (\S+)`)
	for scan := bufio.NewScanner(out); scan.Scan(); {
		if m := listening.FindStringSubmatch(scan.Text()); m != nil {
			h.base = m[1]
			break
		}
	}
	if h.base == "" {
		return nil, errors.Join(errors.New("the service did not start"), cmd.Wait())
	}
	h.count(time.Since(began), "  listening on "+h.base)
	return func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }, nil
}

func (h *hour) count(took time.Duration, said string) {
	h.commands++
	h.took += took
	fmt.Printf("%s\n  (%.1f s)\n", strings.TrimRight(said, "\n"), took.Seconds())
}

// step runs one command. want is what has to be in its answer.
func (h *hour) step(ctx context.Context, stdin, want string, args ...string) error {
	fmt.Printf("$ bouncer %s\n", strings.Join(args, " "))
	cmd := exec.CommandContext(ctx, h.bin, args...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+filepath.Join(h.dir, "config"))
	cmd.Stdin = strings.NewReader(stdin)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	began := time.Now()
	err := cmd.Run()
	first, _, _ := strings.Cut(strings.TrimSpace(out.String()), "\n")
	h.count(time.Since(began), "  "+first)
	if err != nil || !strings.Contains(out.String(), want) {
		return fmt.Errorf("bouncer %s: wanted %q, got %w:\n%s", strings.Join(args, " "), want, err, out.String())
	}
	return nil
}

// walk is the hour itself.
func (h *hour) walk(ctx context.Context, sailings, lost, berths string) error {
	config := filepath.Join(h.dir, "quill.json")
	if err := os.WriteFile(config, []byte("{}\n"), 0o600); err != nil {
		return err
	}
	const form = `{"mcpServers": {"sailings": {"url": "%s/mcp", "headers": {"Authorization": "Bearer %s"}}}}`
	snippet := fmt.Sprintf(form, sailings, ferries.SailingsToken)
	for _, s := range []struct {
		stdin, want string
		args        []string
	}{
		{password, "signed in", []string{"login", "--person", "marit", "--address", h.base}},
		{snippet, "sailings is registered", []string{"server", "import", "-", "--yes"}},
		{
			ferries.BerthsToken, "berths is registered",
			[]string{"server", "register", "berths", "--secret-env", "BERTHS_KEY", "--token", "--", berths},
		},
		{
			ferries.LostKey, "lost-property is registered",
			[]string{
				"server", "register", "lost-property", "--url", lost + "/v2", "--document", lost + "/openapi.yaml", "--operation", "searchItems", "--token",
			},
		},
		{"", "one-time password", []string{"person", "add", "joss", "--full-name", "Joss Penhale", "--role", "maintainer"}},
		{"", "marit-quill is enrolled", []string{"enrol", "marit-quill", "--create", "--config", config, "--yes"}},
		{"", "matches all", []string{"rule", "add", "admit", "--agent", "marit-quill", "--server", "*", "--tool", "*"}},
		{"", "matches 1 of 3 tools", []string{"rule", "add", "refuse", "--agent", "*", "--server", "sailings", "--tool", "cancel_*"}},
		{"", "refused by rule refuse-cancel-on-sailings", []string{"agent", "reach", "marit-quill"}},
	} {
		if err := h.step(ctx, s.stdin, s.want, s.args...); err != nil {
			return err
		}
	}
	if err := h.calls(ctx, config); err != nil {
		return err
	}
	// Records are written a moment after the answer, unless that is set otherwise.
	var err error
	for range 50 {
		if err = h.step(ctx, "", "cancel_sailing", "journal", "--outcome", "refused"); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	fmt.Printf("\n%d commands, %.1f s of waiting, no page of the console needed.\n", h.commands, h.took.Seconds())
	return nil
}

// calls has the assistant make a call that is admitted and one that is refused.
func (h *hour) calls(ctx context.Context, config string) error {
	assistants, err := quill.Load(config)
	if err != nil || len(assistants) != 1 {
		return fmt.Errorf("the assistant's configuration: %d entries, %w", len(assistants), err)
	}
	quillHere := assistants[0]
	if err := quillHere.Connect(ctx); err != nil {
		return err
	}
	defer quillHere.Close(ctx)
	if err := quillHere.List(ctx); err != nil {
		return err
	}
	fmt.Println("(the assistant makes two calls)")
	if _, err := quillHere.Call(ctx, quill.DefaultScript[0]); err != nil {
		return fmt.Errorf("the admitted call: %w", err)
	}
	if _, err := quillHere.Call(ctx, quill.DefaultScript[6]); err == nil {
		return errors.New("the call that a rule refuses went through")
	}
	return nil
}

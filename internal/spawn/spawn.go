// Package spawn is the one place where processes of tool servers are started. It
// refuses when processes are off, bounds how many run and how many start at a time,
// starts each in a group of its own and, where that is set up, as another user, and
// knows everything that a process has started by a mark in its environment: so that
// what leaves the group is ended with it, and what a killed service left behind is
// ended at the next start.
package spawn

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"bouncer/internal/gate"
)

// Options configure a Spawner; the zero value starts everything as the service's own
// user.
type Options struct {
	// Off refuses to start anything.
	Off bool
	// Dir is the data directory: its address is part of the mark, and secrets that are
	// files lie below it where there is no memory for them.
	Dir string
	// User is the name or number of the user that processes run as; "" for the
	// service's own.
	User string
	Log  *slog.Logger
	Book *gate.Book // knows the gate; nil for none
}

// Bounds on processes: of one server, and in all; how many start at a time, and how
// many may wait for that.
const (
	maxOfServer = 128
	maxProcs    = 512
	startsOnce  = 4
	maxWaiting  = 256
)

// OffError says that no process is started here.
type OffError struct{}

func (OffError) Error() string { return "the service was started with processes off" }

// Spawner starts processes. It is safe for concurrent use.
type Spawner struct {
	o      Options
	mark   string
	serial atomic.Uint64
	starts *gate.Queue
	gate   *gate.Gate
	cred   *syscall.Credential // nil for the service's own user
	home   string              // of the user; "" for the service's own

	mu      sync.Mutex // guards running
	running map[string]int
}

// markName is the variable that marks what was started.
const markName = "BOUNCER_PROCESS"

// New returns a Spawner, and ends what one of the same directory left behind.
// Errors are about the user.
func New(o Options) (*Spawner, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Book == nil {
		o.Book = &gate.Book{}
	}
	sum := sha256.Sum256([]byte(o.Dir + "\x00" + strconv.Itoa(os.Getuid())))
	s := &Spawner{
		o: o, mark: hex.EncodeToString(sum[:8]), starts: gate.NewQueue("processes that start", startsOnce, maxWaiting, maxWaiting),
		gate: o.Book.Open("processes", gate.Limits{All: maxProcs}), running: map[string]int{},
	}
	if o.Dir == "" {
		// Nothing outlives such a one, and there may be several.
		var own [8]byte
		_, _ = rand.Read(own[:])
		s.mark = hex.EncodeToString(own[:])
	}
	if err := s.become(o.User); err != nil {
		return nil, err
	}
	if o.Dir != "" {
		s.sweep()
	}
	return s, nil
}

// become finds the user that processes run as.
func (s *Spawner) become(name string) error {
	if name == "" {
		return nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		if u, err = user.LookupId(name); err != nil {
			return fmt.Errorf("there is no user %q: %w", name, err)
		}
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	if err := errors.Join(err1, err2); err != nil {
		return fmt.Errorf("user %q has no number: %w", name, err)
	}
	if int(uid) == os.Getuid() {
		return nil
	}
	if os.Getuid() != 0 {
		return fmt.Errorf("only root can start processes as user %q", name)
	}
	s.cred, s.home = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, u.HomeDir
	return nil
}

// sweep ends what was left behind, and removes its secrets.
func (s *Spawner) sweep() {
	for _, pid := range marked(s.mark + "/") {
		s.o.Log.Warn("a process that was left behind is ended", "pid", pid)
		_ = syscall.Kill(pid, syscall.SIGKILL) // it may be gone by now
	}
	for _, dir := range s.secretDirs() {
		if err := os.RemoveAll(dir); err != nil {
			s.o.Log.Error("secrets that were left behind could not be removed", "directory", dir, "error", err)
		}
	}
}

// secretDirs are where secrets may lie that are files: in memory where there is
// some, else in the data directory.
func (s *Spawner) secretDirs() []string {
	return []string{filepath.Join("/dev/shm", "bouncer-"+s.mark), filepath.Join(s.o.Dir, "run")}
}

// Process is a process that was started.
type Process struct {
	cmd  *exec.Cmd
	mark string
	free func()
}

// Start starts a process of a server, when it is its turn: in a group of its own,
// marked, and within the bounds; most is how many the server may have, 0 for the
// usual. Errors are OffError, *gate.FullError, those of the context, and of the
// system.
func (s *Spawner) Start(ctx context.Context, cmd *exec.Cmd, server string, most int) (*Process, error) {
	if s.o.Off {
		return nil, OffError{}
	}
	if most <= 0 || most > maxOfServer {
		most = maxOfServer
	}
	if err := s.take(server, most); err != nil {
		return nil, err
	}
	free := sync.OnceFunc(func() { s.give(server) })
	leave, err := s.starts.Enter(ctx, server)
	if err != nil {
		free()
		return nil, err
	}
	defer leave()
	p := &Process{cmd: cmd, mark: s.mark + "/" + strconv.FormatUint(s.serial.Add(1), 36), free: free}
	cmd.Env = append(cmd.Env, markName+"="+p.mark)
	// A group of its own, so that a package runner's children end with it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: s.cred}
	if s.home != "" {
		cmd.Env = append(cmd.Env, "HOME="+s.home)
	}
	if err := cmd.Start(); err != nil {
		free()
		return nil, err
	}
	return p, nil
}

func (s *Spawner) take(server string, most int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.running[server] >= most {
		return &gate.FullError{What: "processes of server " + server, Scope: gate.ScopeAll, Limit: int64(most)}
	}
	if err := s.gate.Take(gate.Holder{}, 1); err != nil {
		return err
	}
	s.running[server]++
	return nil
}

func (s *Spawner) give(server string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gate.Give(gate.Holder{}, 1)
	if s.running[server]--; s.running[server] <= 0 {
		delete(s.running, server)
	}
}

// Signal tells the group of the process something. It may be gone already, which is
// what is wanted.
func (p *Process) Signal(sig syscall.Signal) { _ = syscall.Kill(-p.cmd.Process.Pid, sig) }

// Ended is to be called when the process has ended: everything that it left behind
// is ended too, wherever it went, and its place is free.
func (p *Process) Ended() {
	p.Signal(syscall.SIGKILL)
	for range 3 { // what is being started at this moment is found the next time
		left := marked(p.mark)
		if len(left) == 0 {
			break
		}
		for _, pid := range left {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(10 * time.Millisecond)
	}
	p.free()
}

// Secrets are values that a process is given as files.
type Secrets struct {
	s   *Spawner
	dir string
}

// Secrets returns a place for values that one process is given as files; Remove
// ends it.
func (s *Spawner) Secrets() *Secrets { return &Secrets{s: s} }

// Put writes a value and returns the path of its file, which its process alone can
// read.
func (f *Secrets) Put(name, value string) (string, error) {
	if f.dir == "" {
		dir, err := f.s.secretDir()
		if err != nil {
			return "", err
		}
		f.dir = dir
	}
	path := filepath.Join(f.dir, name)
	if err := os.WriteFile(path, []byte(value), 0o600); err != nil {
		return "", fmt.Errorf("write a secret for a process: %w", err)
	}
	return path, f.s.own(path)
}

// Remove removes the files.
func (f *Secrets) Remove() error {
	if f.dir == "" {
		return nil
	}
	return os.RemoveAll(f.dir)
}

// secretDir makes a directory for the secrets of one process.
func (s *Spawner) secretDir() (string, error) {
	if s.o.Dir == "" {
		dir, err := os.MkdirTemp("", "bouncer-*")
		if err != nil {
			return "", fmt.Errorf("make a directory for the secrets of a process: %w", err)
		}
		return dir, s.own(dir)
	}
	var errs []error
	for _, base := range s.secretDirs() {
		if _, err := os.Stat(filepath.Dir(base)); err != nil {
			continue
		}
		dir, err := s.below(base)
		if err == nil {
			return dir, nil
		}
		errs = append(errs, err)
	}
	return "", fmt.Errorf("make a directory for the secrets of a process: %w", errors.Join(errs...))
}

func (s *Spawner) below(base string) (string, error) {
	if err := os.Mkdir(base, 0o711); err != nil && !errors.Is(err, os.ErrExist) { //nolint:gosec // its user has to pass through
		return "", err
	}
	// Somebody else may have made it, in a directory that everybody writes to.
	info, err := os.Lstat(base)
	if err != nil {
		return "", err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); !info.IsDir() || (ok && int(st.Uid) != os.Getuid()) {
		return "", fmt.Errorf("%s belongs to somebody else", base)
	}
	dir, err := os.MkdirTemp(base, "*")
	if err != nil {
		return "", err
	}
	return dir, s.own(dir)
}

// own gives a file to the user that processes run as.
func (s *Spawner) own(path string) error {
	if s.cred == nil {
		return nil
	}
	if err := os.Chown(path, int(s.cred.Uid), int(s.cred.Gid)); err != nil {
		return fmt.Errorf("give a secret to the user of its process: %w", err)
	}
	return nil
}

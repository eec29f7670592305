// Package apart has three nodes and three servers of their cluster run on hosts of their own, which can
// be cut off from each other, paused and killed.
package apart

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/standin/broker"
)

// TestMain lets the test binary be one of the cluster's servers.
func TestMain(m *testing.M) {
	host := os.Getenv("BROKER_HOST")
	if host == "" {
		os.Exit(m.Run())
	}
	if _, err := broker.StartAt(os.Getenv("BROKER_DIR"), host, strings.Split(os.Getenv("BROKER_ALL"), ",")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	select {} // until it is killed
}

// network is a few hosts that are network namespaces of this machine, on a bridge, with this machine
// itself as another one.
type network struct {
	t       *testing.T
	name    string
	hosts   []*host
	bouncer string // the binary
	keys    string
}

// host is one machine, with a server of the cluster and a node.
type host struct {
	net     *network
	number  int
	space   string // of the network
	address string
	dir     string // of the node and the log
	kept    string // what the server keeps
	bouncer string // the binary
	broker  *exec.Cmd
	node    *exec.Cmd
	cut     bool
}

func ip(args ...string) error {
	if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
		return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// lay makes the network, or skips the test where none can be had.
func lay(t *testing.T, many int) *network {
	t.Helper()
	n := &network{t: t, name: fmt.Sprintf("b%d", os.Getpid()%100000), keys: filepath.Join(t.TempDir(), "locker.keys")}
	if err := ip("link", "add", n.name, "type", "bridge"); err != nil {
		t.Skipf("no network can be made here: %v", err)
	}
	t.Cleanup(func() { _ = ip("link", "del", n.name) })
	require.NoError(t, ip("addr", "add", n.at(254)+"/24", "dev", n.name))
	require.NoError(t, ip("link", "set", n.name, "up"))
	for i := 1; i <= many; i++ {
		h := &host{net: n, number: i, space: fmt.Sprintf("%s-%d", n.name, i), address: n.at(i), dir: t.TempDir(), kept: t.TempDir()}
		n.hosts = append(n.hosts, h)
		require.NoError(t, ip("netns", "add", h.space))
		t.Cleanup(func() { _ = ip("netns", "del", h.space) })
		line := fmt.Sprintf("%s-%d", n.name, i)
		for _, args := range [][]string{
			{"link", "add", line, "type", "veth", "peer", "name", "eth0", "netns", h.space},
			{"link", "set", line, "master", n.name, "up"},
			{"-n", h.space, "addr", "add", h.address + "/24", "dev", "eth0"},
			{"-n", h.space, "link", "set", "eth0", "up"},
			{"-n", h.space, "link", "set", "lo", "up"},
		} {
			require.NoError(t, ip(args...))
		}
	}
	return n
}

// at is the address of a host; 254 is this machine.
func (n *network) at(number int) string { return fmt.Sprintf("10.77.%d.%d", os.Getpid()%200+1, number) }

func (n *network) addresses() (all []string) {
	for _, h := range n.hosts {
		all = append(all, h.address)
	}
	return all
}

// run starts a program on the host.
func (h *host) run(env []string, program string, args ...string) *exec.Cmd {
	h.net.t.Helper()
	cmd := exec.Command("ip", append([]string{"netns", "exec", h.space, program}, args...)...)
	cmd.Env = append(os.Environ(), env...)
	log, err := os.OpenFile(filepath.Join(h.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(h.net.t, err)
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(h.net.t, cmd.Start())
	return cmd
}

// serve starts the server of the cluster.
func (h *host) serve() {
	h.broker = h.run([]string{
		"BROKER_HOST=" + h.address, "BROKER_DIR=" + h.kept, "BROKER_ALL=" + strings.Join(h.net.addresses(), ","),
	}, os.Args[0])
}

// start starts the node.
func (h *host) start() {
	var servers []string
	for _, address := range h.net.addresses() {
		servers = append(servers, "nats://"+address+":4222")
	}
	h.node = h.run([]string{"BOUNCER_FIRST_PASSWORD_HERE=" + firstPassword}, h.bouncer, "serve", "--listen", h.address+":4680",
		"--data", filepath.Join(h.dir, "data"), "--keys", h.net.keys, "--journal", "strict", "--cluster", strings.Join(servers, ","),
		"--cluster-node", fmt.Sprintf("host-%d", h.number), "--cluster-name", "skerrow", "--alone-for", aloneFor.String(),
		"--public-url", "http://bouncer.skerrow.example", "--first-admin", "marit",
		"--first-password", "env BOUNCER_FIRST_PASSWORD_HERE", "--process-user", "0", "--disk-reserve", "0", "--pass-rate", "0")
}

// aloneFor is how long a node goes on that is cut off.
const (
	aloneFor      = 5 * time.Second
	firstPassword = "three-lights-in-fog"
)

// end ends a process at once.
func end(cmd *exec.Cmd) {
	if cmd != nil && cmd.Process != nil {
		_ = cmd.Process.Kill()
		_ = cmd.Wait() // it was killed
	}
}

// pause has a process stand still, or go on.
func pause(cmd *exec.Cmd, still bool) {
	signal := syscall.SIGCONT
	if still {
		signal = syscall.SIGSTOP
	}
	if err := cmd.Process.Signal(signal); err != nil && !errors.Is(err, os.ErrProcessDone) {
		panic(err)
	}
}

// part cuts a host off from the other hosts, or joins it with them again. This machine reaches it all
// the while.
func (h *host) part(apart bool) {
	if h.cut == apart {
		return
	}
	h.cut = apart
	verb := "del"
	if apart {
		verb = "add"
	}
	for _, other := range h.net.hosts {
		if other != h {
			assert.NoError(h.net.t, ip("-n", h.space, "route", verb, "blackhole", other.address+"/32"))
			assert.NoError(h.net.t, ip("-n", other.space, "route", verb, "blackhole", h.address+"/32"))
		}
	}
}

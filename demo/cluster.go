package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/standin/broker"
)

// names and addresses of the nodes, of which the first has the data of the demo.
var nodesOfDemo = []struct{ name, at string }{
	{"north", "127.0.0.1:4690"}, {"south", "127.0.0.1:4691"}, {"west", "127.0.0.1:4692"},
}

// several is the demo as a cluster: three NATS servers, further nodes beside the service, and a
// balancer in front of them all.
type several struct {
	dir     string
	brokers *broker.Broker
	mu      sync.Mutex // guards what follows
	running map[string]*exec.Cmd
}

// startSeveral starts the servers of the cluster.
func startSeveral(dir string) (*several, error) {
	b, err := broker.Start(filepath.Join(dir, "brokers"), 3)
	if err != nil {
		return nil, err
	}
	return &several{dir: dir, brokers: b, running: map[string]*exec.Cmd{}}, nil
}

// flags are the settings of a node besides those of the scenario.
func (c *several) flags(node int) []string {
	return []string{
		"--listen", nodesOfDemo[node].at, "--public-url", "http://" + address, "--cluster", c.brokers.Addresses(),
		"--cluster-name", "skerrow", "--cluster-node", nodesOfDemo[node].name, "--keys", filepath.Join(c.dir, "locker.keys"),
	}
}

// close ends the servers of the cluster.
func (c *several) close() {
	if c != nil {
		c.brokers.Close()
	}
}

// begin starts the other nodes, and starts again what ends.
func (c *several) begin(ctx context.Context, wait *sync.WaitGroup, s *service) error {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	c.running[nodesOfDemo[0].name] = s.cmd
	c.mu.Unlock()
	for i := 1; i < len(nodesOfDemo); i++ {
		wait.Go(func() { c.keep(ctx, s, i) })
	}
	for _, n := range nodesOfDemo[1:] {
		if err := untilReady(ctx, "http://"+n.at); err != nil {
			return fmt.Errorf("the node %s (%s): %w", n.name, filepath.Join(c.dir, n.name+".log"), err)
		}
	}
	return nil
}

// keep has a node run for as long as the demo does.
func (c *several) keep(ctx context.Context, s *service, node int) {
	name := nodesOfDemo[node].name
	for ctx.Err() == nil {
		if err := c.run(ctx, s, node); err != nil && ctx.Err() == nil {
			fmt.Printf("(node %s ended: %v; it is started again in 20 seconds)\n", name, err)
		}
		select {
		case <-time.After(20 * time.Second):
		case <-ctx.Done():
		}
	}
}

// run runs a node until it ends.
func (c *several) run(ctx context.Context, s *service, node int) error {
	name := nodesOfDemo[node].name
	log, err := os.OpenFile(filepath.Join(c.dir, name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := s.command(filepath.Join(c.dir, name), false, c.flags(node)...)
	cmd.Stderr, cmd.Stdout = log, io.Discard
	setGroup(cmd)
	if err := cmd.Start(); err != nil {
		return err
	}
	c.mu.Lock()
	c.running[name] = cmd
	c.mu.Unlock()
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		return errors.Join(err, errors.New("it is gone"))
	case <-ctx.Done():
	}
	_ = cmd.Process.Signal(os.Interrupt)
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		_ = cmd.Process.Kill()
	}
	return nil
}

// pid is the process of a node.
func (c *several) pid(name string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.running[name].Process.Pid
}

// untilReady waits for a node to be ready.
func untilReady(ctx context.Context, base string) error {
	deadline := time.After(time.Minute)
	for {
		if ready(ctx, base) {
			return nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-deadline:
			return errors.New("it did not become ready in time")
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func ready(ctx context.Context, base string) bool {
	ctx, stop := context.WithTimeout(ctx, time.Second)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/readyz", nil)
	if err != nil {
		return false
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return false
	}
	defer res.Body.Close()
	return res.StatusCode == http.StatusOK
}

// balancer sends requests to nodes that are ready: whoever shows the same pass or login to the
// same one, for as long as that is there.
type balancer struct {
	proxies []*httputil.ReverseProxy
	ready   []atomic.Bool
}

// largestBody is more than a node takes, in bytes.
const largestBody = 64 << 20

func newBalancer() *balancer {
	b := &balancer{ready: make([]atomic.Bool, len(nodesOfDemo))}
	for i, n := range nodesOfDemo {
		to := &url.URL{Scheme: "http", Host: n.at}
		b.proxies = append(b.proxies, &httputil.ReverseProxy{
			FlushInterval: -1,
			Rewrite: func(r *httputil.ProxyRequest) {
				r.SetURL(to)
				r.SetXForwarded()
				r.Out.Host = r.In.Host
			},
			ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
				b.ready[i].Store(false)
				http.Error(w, "the node "+n.name+" does not answer; ask again", http.StatusBadGateway)
			},
		})
	}
	return b
}

// watch asks again and again which nodes are ready.
func (b *balancer) watch(ctx context.Context) {
	for ctx.Err() == nil {
		for i, n := range nodesOfDemo {
			b.ready[i].Store(ready(ctx, "http://"+n.at))
		}
		select {
		case <-time.After(250 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// ServeHTTP implements http.Handler.
func (b *balancer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	// The whole body first: an answer that begins before its end would leave two that read it, of which
	// the connection has one only.
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, largestBody))
	if err != nil {
		http.Error(w, "the request cannot be read: "+err.Error(), http.StatusBadRequest)
		return
	}
	r.Body, r.ContentLength, r.TransferEncoding = http.NoBody, int64(len(body)), nil
	if len(body) > 0 {
		r.Body = io.NopCloser(bytes.NewReader(body))
	}
	best, weight := -1, uint32(0)
	for i, n := range nodesOfDemo {
		h := fnv.New32a()
		_, _ = io.WriteString(h, n.name+r.Header.Get("Authorization")+r.Header.Get("Cookie")) // which cannot fail
		if sum := h.Sum32(); b.ready[i].Load() && (best < 0 || sum > weight) {
			best, weight = i, sum
		}
	}
	if best < 0 {
		http.Error(w, "no node is ready", http.StatusServiceUnavailable)
		return
	}
	b.proxies[best].ServeHTTP(w, r)
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"bouncer/standin/broker"
)

// fleet is a few nodes that are one service, and the servers that they share.
type fleet struct {
	bin, dir, up string
	broker       *broker.Broker
	keys         string
	nodes        []*member
	token, pass  string
}

// member is one of the nodes.
type member struct {
	name, base string
	proc       *process
}

// cluster measures what it takes to be several nodes: until what is altered at one holds at all, calls
// with one to three nodes, strict mode by itself and over the cluster, and catching up.
func cluster(ctx context.Context, o options, changes int) error {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	up := freePort()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	upstream, _, err := start(self, "upstream", up)
	if err != nil {
		return err
	}
	defer upstream.stop()
	f, err := newFleet(ctx, o.bouncer, dir, up)
	if err != nil {
		return err
	}
	defer f.close()
	fmt.Printf("three nodes and three NATS servers on one machine\n\n")
	if err := f.immediate(ctx); err != nil {
		return err
	}
	if err := f.spread(ctx, o); err != nil {
		return err
	}
	if err := f.strict(ctx, o); err != nil {
		return err
	}
	if err := f.placed(ctx, o); err != nil {
		return err
	}
	return f.catchUp(ctx, changes)
}

func newFleet(ctx context.Context, bin, dir, up string) (f *fleet, err error) {
	f = &fleet{bin: bin, dir: dir, up: up, keys: filepath.Join(dir, "locker.keys")}
	if f.broker, err = broker.Start(filepath.Join(dir, "nats"), 3); err != nil {
		return nil, err
	}
	first, base, pass, err := startBouncer(ctx, bin, filepath.Join(dir, "north"), "normal", up, nil, f.settings("north", "bench")...)
	if err != nil {
		f.close()
		return nil, err
	}
	f.pass, f.nodes = pass, []*member{{"north", base, first}}
	var login struct{ Token string }
	err = f.call(ctx, base, "POST", "/api/tokens", map[string]any{"name": "admin", "password": "long-enough-for-this"}, &login)
	f.token = login.Token
	for _, name := range []string{"south", "west"} {
		if err == nil {
			err = f.join(ctx, name)
		}
	}
	if err != nil {
		f.close()
		return nil, err
	}
	return f, nil
}

// settings are those of a node of a cluster.
func (f *fleet) settings(node, cluster string) []string {
	return []string{"--cluster", f.broker.Addresses(), "--cluster-name", cluster, "--cluster-node", node, "--keys", f.keys}
}

// join starts a further node, and waits until it is ready.
func (f *fleet) join(ctx context.Context, name string) error {
	at := freePort()
	args := []string{
		"serve", "--data", filepath.Join(f.dir, name), "--listen", at, "--log-level", "error", "--pass-rate", "0",
		"--process-user", fmt.Sprint(os.Getuid()),
	}
	proc, _, err := start(f.bin, append(args, f.settings(name, "bench")...)...)
	if err != nil {
		return err
	}
	f.nodes = append(f.nodes, &member{name, "http://" + at, proc})
	return until(ctx, time.Minute, func() bool {
		res, err := http.Get("http://" + at + "/readyz") //nolint:noctx // it is bounded from outside
		if err != nil {
			return false
		}
		defer res.Body.Close()
		return res.StatusCode == http.StatusOK
	})
}

func (f *fleet) close() {
	for _, n := range f.nodes {
		n.proc.stop()
	}
	f.broker.Close()
}

// until asks again and again.
func until(ctx context.Context, within time.Duration, fn func() bool) error {
	for end := time.Now().Add(within); time.Now().Before(end); {
		if fn() {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Millisecond):
		}
	}
	return errors.New("it did not come to that in time")
}

func (f *fleet) call(ctx context.Context, base, method, path string, in, out any) error {
	return ask(ctx, base, f.token, method, path, in, out)
}

// way is how a node is called, in a session of its own.
func (f *fleet) way(ctx context.Context, n *member, pass string) (*way, error) {
	h := http.Header{
		"Content-Type": {"application/json"}, "Accept": {"application/json, text/event-stream"}, "Authorization": {"Bearer " + pass},
	}
	if err := openSession(ctx, n.base+"/mcp", h); err != nil {
		return nil, fmt.Errorf("open a session at %s: %w", n.name, err)
	}
	return &way{n.name, n.base + "/mcp", "echo__echo", h, nil, ""}, nil
}

// immediate measures from the first byte of an alteration at one node until the last one acts by it.
func (f *fleet) immediate(ctx context.Context) error {
	var ways []*way
	for _, n := range f.nodes {
		w, err := f.way(ctx, n, f.pass)
		if err != nil {
			return err
		}
		ways = append(ways, w)
	}
	var took []time.Duration
	for range 100 {
		began := time.Now()
		if err := f.pause(ctx, true); err != nil {
			return err
		}
		if err := everywhere(ctx, ways, http.StatusForbidden); err != nil {
			return fmt.Errorf("have an agent paused everywhere: %w", err)
		}
		took = append(took, time.Since(began))
		if err := f.pause(ctx, false); err != nil {
			return err
		}
		if err := everywhere(ctx, ways, http.StatusOK); err != nil {
			return fmt.Errorf("have an agent go on everywhere: %w", err)
		}
	}
	fmt.Printf("an agent is paused at one node until all three refuse it: p50 %v, p99 %v, from the request on\n\n",
		quantile(took, 0.5).Round(time.Microsecond), quantile(took, 0.99).Round(time.Microsecond))
	return nil
}

func (f *fleet) pause(ctx context.Context, paused bool) error {
	return f.call(ctx, f.nodes[0].base, "PATCH", "/api/agents/bench", map[string]any{"paused": paused}, nil)
}

// everywhere asks all nodes, side by side, until each answers with a status.
func everywhere(ctx context.Context, ways []*way, status int) error {
	var wait sync.WaitGroup
	errs := make([]error, len(ways))
	for i, w := range ways {
		wait.Go(func() {
			errs[i] = until(ctx, 20*time.Second, func() bool {
				req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.url, strings.NewReader(`{"jsonrpc":"2.0","id":1,"method":"ping"}`))
				if err != nil {
					return false
				}
				req.Header = w.headers
				res, err := client.Do(req)
				if err != nil {
					return false
				}
				defer res.Body.Close()
				_, _ = io.Copy(io.Discard, res.Body) // so that the connection is used again
				return res.StatusCode == status
			})
		})
	}
	wait.Wait()
	return errors.Join(errs...)
}

// spread has sixteen callers call one, two and three nodes.
func (f *fleet) spread(ctx context.Context, o options) error {
	const callers = 16
	fmt.Printf("%8s %10s %9s %9s\n", "nodes", "calls/s", "p50", "p99")
	for n := 1; n <= len(f.nodes); n++ {
		samples, errs := make([]sample, n), make([]error, n)
		var wait sync.WaitGroup
		for i, node := range f.nodes[:n] {
			w, err := f.way(ctx, node, f.pass)
			if err != nil {
				return err
			}
			share := callers / n
			if i < callers%n {
				share++
			}
			wait.Go(func() { errs[i] = load(ctx, w, 200, share, time.Duration(o.rounds)*o.span, &samples[i]) })
		}
		wait.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		var all sample
		rate := 0.0
		for i := range samples {
			all.times = append(all.times, samples[i].times...)
			rate += float64(samples[i].calls) / samples[i].span.Seconds()
			if samples[i].wrong+samples[i].failed > 0 {
				return errors.New("answers were wrong or missing")
			}
		}
		fmt.Printf("%8d %10.0f %9v %9v\n", n, rate,
			quantile(all.times, 0.5).Round(time.Microsecond), quantile(all.times, 0.99).Round(time.Microsecond))
	}
	fmt.Printf("\n")
	return nil
}

// strict compares answers that wait for a disk with those that wait for the cluster's disks besides.
func (f *fleet) strict(ctx context.Context, o options) error {
	fmt.Printf("%8s  %-16s %10s %9s %9s\n", "callers", "strict mode", "calls/s", "p50", "p99")
	alone, base, pass, err := startBouncer(ctx, f.bin, filepath.Join(f.dir, "alone"), "strict", f.up, nil)
	if err != nil {
		return err
	}
	defer alone.stop()
	settings := []string{"--cluster", f.broker.Addresses(), "--cluster-name", "strict", "--cluster-node", "north"}
	shared, sharedBase, sharedPass, err := startBouncer(ctx, f.bin, filepath.Join(f.dir, "shared"), "strict", f.up, nil, settings...)
	if err != nil {
		return err
	}
	defer shared.stop()
	for _, callers := range []int{1, 16} {
		for _, row := range []struct{ name, base, pass string }{{"alone", base, pass}, {"over the cluster", sharedBase, sharedPass}} {
			w, err := f.way(ctx, &member{name: row.name, base: row.base}, row.pass)
			if err != nil {
				return err
			}
			var s sample
			if err := load(ctx, w, 200, callers, time.Duration(o.rounds)*o.span, &s); err != nil {
				return err
			}
			if s.wrong+s.failed > 0 {
				return errors.New("answers were wrong or missing")
			}
			fmt.Printf("%8d  %-16s %10.0f %9v %9v\n", callers, row.name, float64(s.calls)/s.span.Seconds(),
				quantile(s.times, 0.5).Round(time.Microsecond), quantile(s.times, 0.99).Round(time.Microsecond))
		}
	}
	fmt.Printf("\n")
	return nil
}

// catchUp measures how long a node takes to have what happened while it was away.
func (f *fleet) catchUp(ctx context.Context, changes int) error {
	west := f.nodes[2]
	west.proc.stop()
	f.nodes = f.nodes[:2]
	began := time.Now()
	for i := range changes {
		if err := f.pause(ctx, i%2 == 0); err != nil {
			return err
		}
	}
	wrote := time.Since(began)
	began = time.Now()
	if err := f.join(ctx, "west"); err != nil {
		return err
	}
	type state struct {
		Nodes []struct {
			Name          string
			Applied, Last uint64
		}
	}
	err := until(ctx, 10*time.Minute, func() bool {
		var s state
		if f.call(ctx, f.nodes[0].base, "GET", "/api/nodes", nil, &s) != nil {
			return false
		}
		last := uint64(0)
		for _, n := range s.Nodes {
			last = max(last, n.Last)
		}
		for _, n := range s.Nodes {
			if n.Name == "west" {
				return n.Applied == last
			}
		}
		return false
	})
	if err != nil {
		return fmt.Errorf("catch up: %w", err)
	}
	took := time.Since(began)
	fmt.Printf("%d alterations, one after the other: %v (%.0f a second); a node that was away has them %v after it was started\n",
		changes, wrote.Round(time.Millisecond), float64(changes)/wrote.Seconds(), took.Round(time.Millisecond))
	return nil
}

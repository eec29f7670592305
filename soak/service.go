package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// service is the service that works, as a process of its own.
type service struct {
	cmd     *exec.Cmd
	base    string
	metrics string
	token   string
}

func port() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("find a port: %w", err)
	}
	defer l.Close()
	return l.Addr().String(), nil
}

var oneTime = regexp.MustCompile(`one-time password (\S+)`)

func start(ctx context.Context, bin, dir string) (*service, error) {
	at, err := port()
	if err != nil {
		return nil, err
	}
	metrics, err := port()
	if err != nil {
		return nil, err
	}
	s := &service{base: "http://" + at, metrics: "http://" + metrics + "/metrics"}
	s.cmd = exec.CommandContext(ctx, bin, "serve", "--data", dir, "--listen", at, "--metrics-listen", metrics, "--log-level", "error",
		"--pass-rate", "0", "--process-user", strconv.Itoa(os.Getuid()))
	s.cmd.Stderr = os.Stderr
	s.cmd.Cancel = func() error { return s.cmd.Process.Signal(syscall.SIGTERM) }
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, fmt.Errorf("read what the service says: %w", err)
	}
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the service: %w", err)
	}
	password, listening := "", false
	for scan := bufio.NewScanner(out); (password == "" || !listening) && scan.Scan(); {
		if m := oneTime.FindStringSubmatch(scan.Text()); m != nil {
			password = m[1]
		}
		listening = listening || strings.Contains(scan.Text(), "listening")
	}
	go func() { _, _ = io.Copy(io.Discard, out) }() // ends with the process
	var login struct{ Token string }
	err = s.call(ctx, http.MethodPost, "/api/tokens", object{"name": "admin", "password": password, "label": "soak"}, &login)
	if err != nil {
		s.stop()
		return nil, fmt.Errorf("sign in: %w", err)
	}
	s.token = login.Token
	return s, s.call(ctx, http.MethodPut, "/api/session/password", object{"old": password, "new": "long-enough-for-this"}, nil)
}

func (s *service) stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.cmd.Wait()
}

type object = map[string]any

func (s *service) call(ctx context.Context, method, path string, in, out any) error {
	raw, err := json.Marshal(in)
	if err != nil {
		return fmt.Errorf("write the request for %s: %w", path, err)
	}
	req, err := http.NewRequestWithContext(ctx, method, s.base+path, bytes.NewReader(raw))
	if err != nil {
		return fmt.Errorf("make the request for %s: %w", path, err)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+s.token)
	res, err := client.Do(req)
	if err != nil {
		return fmt.Errorf("ask for %s: %w", path, err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode >= 400 {
		return errors.Join(err, fmt.Errorf("%s %s: %s %s", method, path, res.Status, body))
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(body, out)
}

// furnish registers the servers and adds the agents; it returns their passes.
func (s *service) furnish(ctx context.Context, addresses []string, agents int) (passes []string, err error) {
	for i, at := range addresses {
		if err := s.call(ctx, http.MethodPost, "/api/servers", object{"name": fmt.Sprint("server-", i), "url": at}, nil); err != nil {
			return nil, err
		}
	}
	for _, rule := range []object{
		{"name": "all", "effect": "admit", "agent": "*", "server": "*", "tool": "*"},
		{"name": "none", "effect": "refuse", "agent": "*", "server": "*", "tool": "forbidden"},
	} {
		if err := s.call(ctx, http.MethodPost, "/api/rules", rule, nil); err != nil {
			return nil, err
		}
	}
	for i := range agents {
		name := fmt.Sprint("agent-", i)
		var pass struct{ Token string }
		err := s.call(ctx, http.MethodPost, "/api/agents", object{"name": name}, nil)
		if err == nil {
			err = s.call(ctx, http.MethodPost, "/api/agents/"+name+"/passes", object{"label": "soak", "days": 1}, &pass)
		}
		if err != nil {
			return nil, err
		}
		passes = append(passes, pass.Token)
	}
	return passes, nil
}

// alter alters rules and servers all the while, and reads as a console does.
func (s *service) alter(ctx context.Context, t *tally) {
	for n := 0; ctx.Err() == nil; n++ {
		name := fmt.Sprint("passing-", n%5)
		for _, step := range []struct {
			method, path string
			in           any
		}{
			{http.MethodPost, "/api/rules", object{"name": name, "effect": "refuse", "agent": "agent-1*", "server": "server-1*", "tool": "fail"}},
			{http.MethodPatch, fmt.Sprint("/api/servers/server-", n%7), object{"callTime": "2m"}},
			{http.MethodGet, "/api/calls?text=tide&limit=100", nil}, {http.MethodGet, "/api/stats", nil}, {http.MethodGet, "/api/incidents", nil},
			{http.MethodDelete, "/api/rules/" + name, nil},
		} {
			// What is refused here, as a server that fails just then, is part of it.
			if s.call(ctx, step.method, step.path, step.in, nil) == nil && step.method != http.MethodGet {
				t.altered.Add(1)
			}
			pause(ctx, 500*time.Millisecond)
		}
	}
}

// sample is how much the service takes at one time.
type sample struct {
	at                        time.Duration
	memory, goroutines, files float64
	calls                     float64 // in a second
}

const sampleEvery = 5 * time.Second

// follow looks every few seconds how much the service takes, until the work is over.
func (s *service) follow(ctx context.Context, t *tally) (samples []sample) {
	began, before := time.Now(), int64(0)
	for tick := time.NewTicker(sampleEvery); ; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			tick.Stop()
			return samples
		}
		goroutines, err := s.goroutines(ctx)
		if err != nil {
			continue
		}
		done := t.done.Load()
		v := sample{at: time.Since(began), goroutines: goroutines, calls: float64(done-before) / sampleEvery.Seconds()}
		before = done
		proc := filepath.Join("/proc", strconv.Itoa(s.cmd.Process.Pid))
		if files, err := os.ReadDir(filepath.Join(proc, "fd")); err == nil {
			v.files = float64(len(files))
		}
		if raw, err := os.ReadFile(filepath.Join(proc, "statm")); err == nil {
			var whole, resident float64
			if _, err := fmt.Sscan(string(raw), &whole, &resident); err == nil {
				v.memory = resident * float64(os.Getpagesize()) / (1 << 20)
			}
		}
		samples = append(samples, v)
		if len(samples)%12 == 0 {
			fmt.Printf("%6s  %4.0f MiB  %5.0f goroutines  %4.0f files  %5.0f calls/s\n",
				v.at.Round(time.Second), v.memory, v.goroutines, v.files, v.calls)
		}
	}
}

var goroutinesRE = regexp.MustCompile(`(?m)^go_goroutines (\S+)$`)

func (s *service) goroutines(ctx context.Context) (float64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.metrics, nil)
	if err != nil {
		return 0, fmt.Errorf("ask for the metrics: %w", err)
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, fmt.Errorf("ask for the metrics: %w", err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, fmt.Errorf("read the metrics: %w", err)
	}
	m := goroutinesRE.FindSubmatch(raw)
	if m == nil {
		return 0, errors.New("the metrics tell of no goroutines")
	}
	return strconv.ParseFloat(string(m[1]), 64)
}

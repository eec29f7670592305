package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

type options struct {
	rounds   int
	span     time.Duration
	sessions []int
	bouncer  string
	journal  string
	keep     string
	sizes    []int // bytes of the arguments
	callers  []int
}

// way is one of the ways to the upstream that are compared.
type way struct {
	name    string
	url     string
	tool    string
	headers http.Header
	proc    *process // nil when there is nothing in between
	meta    string   // what the request carries in _meta, raw; "" for nothing
}

// sample is the outcome of all rounds of one way in one setting.
type sample struct {
	calls  int
	span   time.Duration
	cpu    time.Duration
	times  []time.Duration
	wrong  int
	failed int
}

// run measures what was asked for, round by round. It is one sequence, so that both
// sides are plainly measured alike.
func run(ctx context.Context, o options) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	dir := o.keep
	if dir == "" {
		if dir, err = os.MkdirTemp("", "bench"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	up, px := freePort(), freePort()
	upstream, _, err := start(self, "upstream", up)
	if err != nil {
		return err
	}
	defer upstream.stop()
	proxy, _, err := start(self, "proxy", px, "http://"+up)
	if err != nil {
		return err
	}
	defer proxy.stop()
	service, base, pass, err := startBouncer(ctx, o.bouncer, dir, o.journal, up, nil)
	if err != nil {
		return err
	}
	defer service.stop()
	plain := http.Header{
		"Content-Type":   {"application/json"},
		"Accept":         {"application/json, text/event-stream"},
		"Mcp-Session-Id": {"bench"},
	}
	ours := plain.Clone()
	ours.Set("Authorization", "Bearer "+pass)
	if err := openSession(ctx, base+"/mcp", ours); err != nil {
		return err
	}
	ways := []*way{
		{"direct", "http://" + up + "/mcp", "echo", plain, nil, ""},
		{"reverse proxy", "http://" + px + "/mcp", "echo", plain, proxy, ""},
		{"bouncer", base + "/mcp", "echo__echo", ours, service, ""},
	}
	fmt.Printf(
		"tools/call, journal %s, %d rounds of %v each, interleaved; every reply's id and text is checked\n\n",
		o.journal,
		o.rounds,
		o.span,
	)
	fmt.Printf(
		"%8s %8s  %-14s %10s %9s %9s %12s  %s\n",
		"args",
		"callers",
		"way",
		"calls/s",
		"p50",
		"p99",
		"CPU/call",
		"against the reverse proxy: CPU, p50 (and half of the rounds)",
	)
	for _, size := range o.sizes {
		for _, callers := range o.callers {
			if err := compare(ctx, o, ways, size, callers); err != nil {
				return err
			}
		}
		if err := parts(ctx, size); err != nil {
			return err
		}
	}
	if err := unrecorded(ctx, o, ways, filepath.Join(dir, "unrecorded"), up, plain); err != nil {
		return err
	}
	if err := translated(ctx, o, ways[1], base, pass, ours, service); err != nil {
		return err
	}
	if err := large(ctx, o, ways); err != nil {
		return err
	}
	if err := passThrough(ctx, o, self); err != nil {
		return err
	}
	if err := warm(ctx, o, up); err != nil {
		return err
	}
	if err := decisions(); err != nil {
		return err
	}
	for _, n := range o.sessions {
		if err := idle(ctx, o, n, up); err != nil {
			return err
		}
	}
	return nil
}

// unrecorded compares Bouncer with itself without the flight recorder, round by round.
func unrecorded(ctx context.Context, o options, ways []*way, dir, up string, plain http.Header) error {
	service, base, pass, err := startBouncer(ctx, o.bouncer, dir, o.journal, up, nil, "--recorder", "off")
	if err != nil {
		return err
	}
	defer service.stop()
	header := plain.Clone()
	header.Set("Authorization", "Bearer "+pass)
	if err := openSession(ctx, base+"/mcp", header); err != nil {
		return err
	}
	without := &way{"no recorder", base + "/mcp", "echo__echo", header, service, ""}
	fmt.Println("\nthe flight recorder: the line bouncer against the line no recorder")
	for _, size := range o.sizes {
		if err := compare(ctx, o, []*way{ways[1], without, ways[2]}, size, 16); err != nil {
			return err
		}
	}
	return nil
}

// translated compares calls whose two sides speak different eras.
func translated(ctx context.Context, o options, proxy *way, base, pass string, ours http.Header, service *process) error {
	free := http.Header{
		"Content-Type":         {"application/json"},
		"Accept":               {"application/json, text/event-stream"},
		"Authorization":        {"Bearer " + pass},
		"Mcp-Protocol-Version": {"2026-07-28"},
		"Mcp-Method":           {"tools/call"},
	}
	with := func(name string) http.Header { h := free.Clone(); h.Set("Mcp-Name", name); return h }
	const meta = `"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}`
	fmt.Println("the two sides in different eras (session: 2025-11-25, none: 2026-07-28)")
	for _, w := range []*way{
		{"both session", base + "/mcp", "echo__echo", ours, service, ""},
		{"none>session", base + "/mcp", "echo__echo", with("echo__echo"), service, meta},
		{"session>none", base + "/mcp", "free__echo", ours, service, ""},
		{"both none", base + "/mcp", "free__echo", with("free__echo"), service, meta},
	} {
		if err := compare(ctx, o, []*way{w, proxy, w}, 200, 16); err != nil {
			return err
		}
	}
	return nil
}

// large makes calls with a MiB each way.
func large(ctx context.Context, o options, ways []*way) error {
	fmt.Println("1 MiB of arguments and 1 MiB of result")
	return compare(ctx, o, ways, 1<<20, 1)
}

// compare has each of the ways carry calls for many short rounds, in another order each time, and
// prints what they came to. What the last way is to the second is told by the median over the rounds
// of what it was in each: the machine is faster in one minute than in another, and a round is over
// before it changes.
func compare(ctx context.Context, o options, ways []*way, size, callers int) error {
	out := make([]sample, len(ways))
	for i, w := range ways { // warm up
		if err := load(ctx, w, size, callers, 200*time.Millisecond, &out[i]); err != nil {
			return err
		}
		out[i] = sample{}
	}
	var cpu, p50 []float64
	for range o.rounds {
		round := make([]sample, len(ways))
		for _, i := range rand.Perm(len(ways)) {
			if err := load(ctx, ways[i], size, callers, o.span, &round[i]); err != nil {
				return err
			}
			out[i].add(round[i])
		}
		proxy, ours := &round[1], &round[len(ways)-1]
		cpu = append(cpu, float64(ours.cpuPerCall())/float64(max(1, proxy.cpuPerCall())))
		p50 = append(p50, float64(quantile(ours.times, 0.5))/float64(max(1, quantile(proxy.times, 0.5))))
	}
	for i, w := range ways {
		if i == 0 && w.proc != nil {
			continue // shown as the last one
		}
		ratio := ""
		if i == len(ways)-1 {
			ratio = fmt.Sprintf("%s, %s", spread(cpu), spread(p50))
		}
		if err := tell(w.name, &out[i], size, callers, ratio); err != nil {
			return err
		}
	}
	fmt.Println()
	return nil
}

// tell prints what a way came to. The error says that it gave wrong answers, or none.
func tell(name string, s *sample, size, callers int, ratio string) error {
	if s.wrong+s.failed > 0 {
		ratio += fmt.Sprintf("  WRONG %d FAILED %d", s.wrong, s.failed)
	}
	fmt.Printf(
		"%8d %8d  %-14s %10.0f %9v %9v %12v  %s\n",
		size,
		callers,
		name,
		float64(s.calls)/s.span.Seconds(),
		quantile(s.times, 0.5).Round(time.Microsecond),
		quantile(s.times, 0.99).Round(time.Microsecond),
		s.cpuPerCall().Round(100*time.Nanosecond),
		ratio,
	)
	if s.wrong+s.failed > 0 {
		return errors.New("answers were wrong or missing")
	}
	return nil
}

// add adds what came of another round.
func (s *sample) add(more sample) {
	s.calls, s.wrong, s.failed = s.calls+more.calls, s.wrong+more.wrong, s.failed+more.failed
	s.span, s.cpu, s.times = s.span+more.span, s.cpu+more.cpu, append(s.times, more.times...)
}

func (s *sample) cpuPerCall() time.Duration { return s.cpu / time.Duration(max(1, s.calls)) }

// spread tells the median of ratios, and between what the half of them lies that is nearest to it.
func spread(ratios []float64) string {
	slices.Sort(ratios)
	at := func(q float64) float64 { return ratios[int(float64(len(ratios)-1)*q)] }
	return fmt.Sprintf("%.2f (%.2f to %.2f)", at(0.5), at(0.25), at(0.75))
}

func quantile(times []time.Duration, q float64) time.Duration {
	if len(times) == 0 {
		return 0
	}
	slices.Sort(times)
	return times[int(float64(len(times)-1)*q)]
}

var client = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 256, DisableCompression: true}}

// load makes calls for a while and adds what came of it to s.
func load(ctx context.Context, w *way, size, callers int, span time.Duration, s *sample) error {
	text := strings.Repeat("abcdefgh ", size/9+1)[:size]
	meta := ""
	if w.meta != "" {
		meta = `,"_meta":{` + w.meta + `}`
	}
	before := time.Duration(0)
	if w.proc != nil {
		before = w.proc.cpu()
	}
	var mu sync.Mutex
	var wait sync.WaitGroup
	began := time.Now()
	for c := range callers {
		wait.Go(func() {
			times, wrong, failed := []time.Duration{}, 0, 0
			for n := 0; time.Since(began) < span && ctx.Err() == nil; n++ {
				id := strconv.Itoa(c*1_000_000 + n)
				mark := text[:size-len(id)] + id
				body := `{"jsonrpc":"2.0","id":` + id + `,"method":"tools/call","params":{"name":"` + w.tool + `","arguments":{"text":"` + mark + `"}` + meta + `}}`
				at := time.Now()
				reply, err := post(ctx, w.url, w.headers, body)
				times = append(times, time.Since(at))
				switch {
				case err != nil:
					failed++
				case !bytes.HasPrefix(reply, []byte(`{"jsonrpc":"2.0","id":`+id+`,`)) || !bytes.Contains(reply, []byte(`"`+mark+`"`)):
					wrong++
				}
			}
			mu.Lock()
			defer mu.Unlock()
			s.times, s.calls, s.wrong, s.failed = append(s.times, times...), s.calls+len(times), s.wrong+wrong, s.failed+failed
		})
	}
	wait.Wait()
	s.span += time.Since(began)
	if w.proc != nil {
		// What is written behind the answer is part of the cost.
		time.Sleep(150 * time.Millisecond)
		s.cpu += w.proc.cpu() - before
	}
	return ctx.Err()
}

func post(ctx context.Context, url string, h http.Header, body string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header = h
	res, err := client.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(res.Body)
}

// openSession opens a session and notes its id in the headers.
func openSession(ctx context.Context, url string, h http.Header) error {
	h.Del("Mcp-Session-Id")
	req, err := http.NewRequestWithContext(
		ctx,
		http.MethodPost,
		url,
		strings.NewReader(
			`{"jsonrpc":"2.0","id":0,"method":"initialize","params":{"protocolVersion":"2025-11-25","capabilities":{},"clientInfo":{"name":"bench","version":"1"}}}`,
		),
	)
	if err != nil {
		return err
	}
	req.Header = h.Clone()
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("initialize: %s %s", res.Status, raw)
	}
	h.Set("Mcp-Session-Id", res.Header.Get("Mcp-Session-Id"))
	return err
}

// idle opens sessions with their event streams at a fresh service and measures
// the memory of each.
func idle(ctx context.Context, o options, sessions int, up string) error {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	service, base, pass, err := startBouncer(ctx, o.bouncer, dir, o.journal, up, nil)
	if err != nil {
		return err
	}
	defer service.stop()
	h := http.Header{
		"Content-Type":  {"application/json"},
		"Accept":        {"application/json, text/event-stream"},
		"Authorization": {"Bearer " + pass},
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	time.Sleep(time.Second)
	before := service.rss()
	many := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8, DisableCompression: true}}
	var streams []*http.Response
	var session http.Header
	for range sessions {
		own := h.Clone()
		if err := openSession(ctx, base+"/mcp", own); err != nil {
			return err
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/mcp", nil)
		if err != nil {
			return err
		}
		req.Header = own
		res, err := many.Do(req)
		if err != nil {
			return err
		}
		defer res.Body.Close() // when all have been counted
		if line, err := bufio.NewReader(res.Body).ReadString('\n'); err != nil || line != ": open\n" {
			return fmt.Errorf("the stream did not open: %q %w", line, err)
		}
		session = own
		streams = append(streams, res) //nolint:bodyclose // it is, when all have been counted
	}
	time.Sleep(time.Second)
	after := service.rss()
	fmt.Printf("%d idle sessions, each with its event stream open: %.1f KiB each (resident memory %d MiB before, %d MiB after)\n",
		sessions, float64(after-before)/float64(sessions)/1024, before>>20, after>>20)
	return revocation(ctx, base, session, streams)
}

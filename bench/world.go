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
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// serveUpstream is a nearly free MCP server: it reads a call's id and echoes the
// text argument, with as little work as can be.
func serveUpstream(args []string) {
	l, err := net.Listen("tcp", args[0])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	idAt, textAt := []byte(`"id":`), []byte(`"text":"`)
	fmt.Println("listening")
	_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		stateless := r.URL.Path == "/stateless"
		if r.Method != http.MethodPost {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		i := bytes.Index(body, idAt)
		if i < 0 {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		id := body[i+len(idAt):]
		id = id[:bytes.IndexAny(id, ",}")]
		var out []byte
		switch {
		case bytes.Contains(body, []byte(`"tools/call"`)):
			text := body[bytes.Index(body, textAt)+len(textAt):]
			text = text[:bytes.IndexByte(text, '"')]
			kind := ""
			if stateless {
				kind = `"resultType":"complete",`
			}
			out = append(
				append(
					append(append([]byte(`{"jsonrpc":"2.0","id":`), id...), `,"result":{`+kind+`"content":[{"type":"text","text":"`...),
					text...),
				`"}]}}`...)
		case stateless && bytes.Contains(body, []byte(`"server/discover"`)):
			out = append(
				append([]byte(`{"jsonrpc":"2.0","id":`), id...),
				`,"result":{"resultType":"complete","supportedVersions":["2026-07-28"],"capabilities":{"tools":{}}}}`...)
		case bytes.Contains(body, []byte(`"server/discover"`)) || (stateless && bytes.Contains(body, []byte(`"initialize"`))):
			out = append(append([]byte(`{"jsonrpc":"2.0","id":`), id...), `,"error":{"code":-32601,"message":"unknown"}}`...)
		case bytes.Contains(body, []byte(`"initialize"`)):
			w.Header().Set("Mcp-Session-Id", "bench")
			out = append(
				append([]byte(`{"jsonrpc":"2.0","id":`), id...),
				`,"result":{"protocolVersion":"2025-11-25","capabilities":{"tools":{}},"serverInfo":{"name":"echo","version":"1"}}}`...)
		default:
			out = append(
				append([]byte(`{"jsonrpc":"2.0","id":`), id...),
				`,"result":{"tools":[{"name":"echo","description":"Echoes.","inputSchema":{"type":"object"}}]}}`...)
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Content-Length", strconv.Itoa(len(out)))
		_, _ = w.Write(out)
	}))
}

// serveProxy is the yardstick: httputil.ReverseProxy with a tuned transport and
// pooled buffers, and nothing else.
func serveProxy(args []string) {
	target, err := url.Parse(args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	p := &httputil.ReverseProxy{
		Rewrite:    func(r *httputil.ProxyRequest) { r.SetURL(target) },
		Transport:  &http.Transport{MaxIdleConns: 512, MaxIdleConnsPerHost: 512, DisableCompression: true},
		BufferPool: newPool(), FlushInterval: -1,
	}
	l, err := net.Listen("tcp", args[0])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("listening")
	_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// Without this the proxy breaks off replies under contention.
		_ = http.NewResponseController(w).EnableFullDuplex()
		p.ServeHTTP(w, r)
	}))
}

type pool struct{ c chan []byte }

func newPool() *pool { return &pool{make(chan []byte, 256)} }
func (p *pool) Get() []byte {
	select {
	case b := <-p.c:
		return b
	default:
		return make([]byte, 32<<10)
	}
}
func (p *pool) Put(b []byte) {
	select {
	case p.c <- b:
	default:
	}
}

// process is a child whose CPU time is read from /proc.
type process struct {
	cmd *exec.Cmd
}

func start(name string, args ...string) (*process, *bufio.Scanner, error) {
	cmd := exec.Command(name, args...)
	cmd.Stderr = io.Discard
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	scan := bufio.NewScanner(out)
	if !scan.Scan() {
		return nil, nil, fmt.Errorf("%s %v did not start", name, args)
	}
	return &process{cmd}, scan, nil
}

func (p *process) stop() {
	_ = p.cmd.Process.Signal(os.Interrupt)
	done := make(chan struct{})
	go func() { _ = p.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(15 * time.Second):
		_ = p.cmd.Process.Kill()
	}
}

// cpu is the CPU time the process has used, user and system.
func (p *process) cpu() time.Duration {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/schedstat", p.cmd.Process.Pid))
	_ = raw
	if err != nil {
		return 0
	}
	var total time.Duration
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/schedstat", p.cmd.Process.Pid))
	for _, t := range tasks {
		raw, err := os.ReadFile(t)
		if err != nil {
			continue
		}
		ns, _ := strconv.ParseInt(strings.Fields(string(raw))[0], 10, 64)
		total += time.Duration(ns)
	}
	return total
}

// rss is the resident memory in bytes.
func (p *process) rss() int {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	pages, _ := strconv.Atoi(strings.Fields(string(raw))[1])
	return pages * os.Getpagesize()
}

func freePort() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// startBouncer starts the service and brings it to where an agent can call the
// upstream's tool. It returns the base URL and the agent's pass.
func startBouncer(
	ctx context.Context,
	bin, dir, journal, upstream string,
	more map[string]map[string]any,
	settings ...string,
) (_ *process, _, _ string, err error) {
	at := freePort()
	args := []string{
		"serve", "--data", dir, "--listen", at, "--journal", journal, "--log-level", "error",
		"--pass-rate", "0", "--process-user", strconv.Itoa(os.Getuid()),
	}
	p, scan, err := start(bin, append(args, settings...)...)
	if err != nil {
		return nil, "", "", err
	}
	scan.Scan()
	m := regexp.MustCompile(`one-time password (\S+)`).FindStringSubmatch(scan.Text())
	if m == nil {
		return nil, "", "", errors.New("no one-time password")
	}
	base, token := "http://"+at, ""
	call := func(method, path string, in, out any) error { return ask(ctx, base, token, method, path, in, out) }
	type obj = map[string]any
	var login, pass struct{ Token string }
	if err := call("POST", "/api/tokens", obj{"name": "admin", "password": m[1]}, &login); err != nil {
		return nil, "", "", err
	}
	token = login.Token
	for name, in := range more {
		in["name"] = name
		defer func() { err = errors.Join(err, call("POST", "/api/servers", in, nil)) }()
	}
	err = errors.Join(
		call("PUT", "/api/session/password", obj{"old": m[1], "new": "long-enough-for-this"}, nil),
		call("POST", "/api/servers", obj{"name": "echo", "url": "http://" + upstream + "/mcp", "token": "bench-token-0123456789"}, nil),
		call("POST", "/api/servers", obj{"name": "free", "url": "http://" + upstream + "/stateless"}, nil),
		call("POST", "/api/agents", obj{"name": "bench", "kind": "bench"}, nil),
		call("POST", "/api/rules", obj{"effect": "admit", "agent": "bench", "server": "*", "tool": "*"}, nil),
		call("POST", "/api/agents/bench/passes", obj{"days": 1}, &pass),
	)
	return p, base, pass.Token, err
}

// ask asks the API of a service.
func ask(ctx context.Context, base, token, method, path string, in, out any) error {
	raw, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, base+path, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode >= http.StatusBadRequest {
		return errors.Join(err, fmt.Errorf("%s %s: %s %s", method, path, res.Status, body))
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(body, out)
}

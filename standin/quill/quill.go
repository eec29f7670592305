// Package quill is a stand-in for the coding assistant Quill: it reads its
// configuration file (JSON with comments), connects to every server in the map
// mcpServers, and makes the tool calls of a script instead of asking a model.
package quill

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"sort"
	"strings"
	"time"
)

// Step is one line of a script.
type Step struct {
	Tool      string         `json:"tool"`
	Arguments map[string]any `json:"arguments"`
}

// DefaultScript is what Quill does when it is given no script.
var DefaultScript = []Step{
	{"sailings__find_sailings", map[string]any{"from": "Skerrow", "to": "Holm Voe"}},
	{"sailings__sailing_status", map[string]any{"sailing": "SF203"}},
	{"berths__list_berths", map[string]any{"harbour": "Skerrow"}},
	{"tides__tide_table", map[string]any{"harbour": "Holm Voe", "day": "2026-11-23"}},
	{"lost-property__search_items", map[string]any{"text": "umbrella", "colour": []string{"black", "red"}}},
	{"tannoy__announce", map[string]any{"text": "The 12:30 to Holm Voe leaves from berth 1."}},
	{"sailings__cancel_sailing", map[string]any{"sailing": "SF203", "reason": "fog"}},
}

// ReadScript reads a script: one JSON object a line.
func ReadScript(path string) ([]Step, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var out []Step
	for i, line := range bytes.Split(raw, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		var s Step
		if err := json.Unmarshal(line, &s); err != nil || s.Tool == "" {
			return nil, fmt.Errorf("%s, line %d: a step looks like {\"tool\":\"...\",\"arguments\":{}}", path, i+1)
		}
		out = append(out, s)
	}
	return out, nil
}

type entry struct {
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers"`
}

// Assistant is one running Quill.
type Assistant struct {
	name    string
	entry   entry
	session string
	rev     string
	nextID  int
	client  *http.Client
	Tools   []string
	calls   [2]string // what it calls itself, and its version
}

// New returns an assistant that works as Quill does, under another name.
func New(name, url string, headers map[string]string, called, version string) *Assistant {
	return &Assistant{
		name: name, entry: entry{URL: url, Headers: headers}, client: &http.Client{Timeout: time.Minute}, calls: [2]string{called, version},
	}
}

// Name is that of its entry.
func (a *Assistant) Name() string { return a.name }

var comment = regexp.MustCompile(`(?m)("(?:[^"\\]|\\.)*")|//.*$|/\*(?s:.*?)\*/`)
var trailing = regexp.MustCompile(`("(?:[^"\\]|\\.)*")|,(\s*[}\]])`)

// Load reads the configuration and returns an assistant for each entry.
func Load(path string) ([]*Assistant, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	plain := trailing.ReplaceAll(comment.ReplaceAll(raw, []byte("$1")), []byte("$1$2"))
	var conf struct {
		Servers map[string]entry `json:"mcpServers"`
	}
	if err := json.Unmarshal(plain, &conf); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	var out []*Assistant
	for name, e := range conf.Servers {
		if e.URL != "" {
			out = append(out, New(name, e.URL, e.Headers, "quill", "5.1"))
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].name < out[j].name })
	if len(out) == 0 {
		return nil, errors.New(path + ": no server with a url in mcpServers")
	}
	return out, nil
}

// Connect opens the session and lists the tools.
func (a *Assistant) Connect(ctx context.Context) error {
	var hello struct{ ProtocolVersion string }
	params := map[string]any{
		"protocolVersion": "2025-11-25",
		"capabilities":    map[string]any{},
		"clientInfo":      map[string]string{"name": a.calls[0], "version": a.calls[1]},
	}
	if err := a.ask(ctx, "initialize", params, &hello); err != nil {
		return err
	}
	a.rev = hello.ProtocolVersion
	res, err := a.send(ctx, map[string]any{"jsonrpc": "2.0", "method": "notifications/initialized"})
	if err != nil {
		return err
	}
	_ = res.Body.Close()
	return a.List(ctx)
}

// List reads the tools anew.
func (a *Assistant) List(ctx context.Context) error {
	var list struct{ Tools []struct{ Name string } }
	if err := a.ask(ctx, "tools/list", map[string]any{}, &list); err != nil {
		return err
	}
	a.Tools = a.Tools[:0]
	for _, t := range list.Tools {
		a.Tools = append(a.Tools, t.Name)
	}
	return nil
}

// Call calls a tool and returns its text.
func (a *Assistant) Call(ctx context.Context, s Step) (string, error) {
	var out struct {
		IsError bool
		Content []struct{ Text string }
	}
	if err := a.ask(ctx, "tools/call", map[string]any{"name": s.Tool, "arguments": s.Arguments}, &out); err != nil {
		return "", err
	}
	var text []string
	for _, c := range out.Content {
		text = append(text, c.Text)
	}
	if out.IsError {
		return "", errors.New("the tool says: " + strings.Join(text, " "))
	}
	return strings.Join(text, " "), nil
}

// Close ends the session.
func (a *Assistant) Close(ctx context.Context) {
	if req, err := http.NewRequestWithContext(ctx, http.MethodDelete, a.entry.URL, nil); err == nil {
		a.dress(req)
		if res, err := a.client.Do(req); err == nil {
			_ = res.Body.Close()
		}
	}
}

func (a *Assistant) dress(r *http.Request) {
	for k, v := range a.entry.Headers {
		r.Header.Set(k, v)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Accept", "application/json, text/event-stream")
	if a.session != "" {
		r.Header.Set("Mcp-Session-Id", a.session)
	}
	if a.rev != "" {
		r.Header.Set("MCP-Protocol-Version", a.rev)
	}
}

func (a *Assistant) send(ctx context.Context, msg any) (*http.Response, error) {
	raw, err := json.Marshal(msg)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, a.entry.URL, bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	a.dress(req)
	return a.client.Do(req)
}

func (a *Assistant) ask(ctx context.Context, method string, params, out any) error {
	a.nextID++
	res, err := a.send(ctx, map[string]any{"jsonrpc": "2.0", "id": a.nextID, "method": method, "params": params})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if sid := res.Header.Get("Mcp-Session-Id"); sid != "" {
		a.session = sid
	}
	var raw []byte
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		lines := bufio.NewScanner(res.Body)
		lines.Buffer(nil, 16<<20)
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && !strings.Contains(data, `"method"`) {
				raw = []byte(data)
			}
		}
	} else if raw, err = io.ReadAll(io.LimitReader(res.Body, 16<<20)); err != nil {
		return err
	}
	var reply struct {
		Result json.RawMessage
		Error  *struct {
			Code    int
			Message string
		}
	}
	if err := json.Unmarshal(raw, &reply); err != nil {
		return fmt.Errorf("%s: %s", res.Status, bytes.TrimSpace(raw[:min(len(raw), 200)]))
	}
	if reply.Error != nil {
		return fmt.Errorf("%s (%d)", reply.Error.Message, reply.Error.Code)
	}
	return json.Unmarshal(reply.Result, out)
}

// Run connects to every server of a configuration, makes the calls of a script
// and tells what came back. It returns how many calls failed.
func Run(ctx context.Context, config string, script []Step, out io.Writer) (failed int, err error) {
	all, err := Load(config)
	if err != nil {
		return 0, err
	}
	for _, a := range all {
		if err := a.Connect(ctx); err != nil {
			return failed, fmt.Errorf("%s: %w", a.name, err)
		}
		fmt.Fprintf(out, "connected to %s (%s): %d tools: %s\n", a.name, a.rev, len(a.Tools), strings.Join(a.Tools, ", "))
		for _, s := range script {
			began := time.Now()
			text, err := a.Call(ctx, s)
			took := time.Since(began).Round(100 * time.Microsecond)
			if err != nil {
				failed++
				fmt.Fprintf(out, "  failed  %-28s %8s  %v\n", s.Tool, took, err)
				continue
			}
			if r := []rune(text); len(r) > 100 {
				text = string(r[:99]) + "…"
			}
			fmt.Fprintf(out, "  done    %-28s %8s  %s\n", s.Tool, took, text)
		}
		a.Close(ctx)
	}
	return failed, nil
}

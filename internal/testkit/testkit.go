// Package testkit starts the real service on loopback for tests, and talks to
// it as people, programs and agents do.
package testkit

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/app"
	"bouncer/internal/core/team"
	"bouncer/internal/login"
	"bouncer/internal/store"
	"bouncer/standin/loopback"
	"bouncer/standin/toolserver"
)

// Password is what everybody in the kit signs in with.
const Password = "seven-tides-turning"

// Obj is a JSON object.
type Obj = map[string]any

// World is a running service with an admin, marit, who is signed in.
type World struct {
	T     *testing.T
	Base  string
	Token string // of marit
	Dir   string
	Svc   *app.Service
	Log   *Log
	Clock *Clock
	stop  func()
}

// Clock is the clock by which grants and values grow old. It goes with the real one,
// and can be put forward.
type Clock struct{ ahead atomic.Int64 }

// Now is the time.
func (c *Clock) Now() time.Time { return time.Now().Add(time.Duration(c.ahead.Load())) }

// Forward puts the clock forward.
func (c *Clock) Forward(d time.Duration) { c.ahead.Add(int64(d)) }

// Log collects what the service logs.
type Log struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.Write(p)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.String()
}

// Start starts a service on a free port. Settings are flags, as on the command
// line.
func Start(t *testing.T, flags map[string]string) *World {
	t.Helper()
	return StartAs(t, flags, "")
}

// StartAs is Start for a data directory in which marit has a token already.
func StartAs(t *testing.T, flags map[string]string, token string) *World {
	t.Helper()
	w := &World{T: t, Dir: t.TempDir(), Log: &Log{}, Clock: &Clock{}}
	values := map[string]string{"data": w.Dir, "listen": "127.0.0.1:0", "first-admin": "marit", "poll": "1s", "log-level": "debug",
		// Tests may run as root, with programs and files that nobody else can reach.
		"process-user": strconv.Itoa(os.Getuid()), "disk-reserve": "0"}
	for k, v := range flags {
		values[k] = v
	}
	w.Dir = values["data"]
	if values["cluster"] == "" { // whose nodes begin with nothing
		lay(t, w.Dir)
	}
	s, err := app.LoadSettings(values, func(string) string { return "" }, "")
	require.NoError(t, err)
	s.Now = w.Clock.Now
	s.PasswordCost = login.Cost{Passes: 1, MemoryKiB: 64, Threads: 1} // so that tests do not wait for it
	w.Svc, err = app.Start(context.Background(), s, w.Log)
	require.NoError(t, err)
	w.Base = w.Svc.Address
	if strings.HasPrefix(w.Base, "https://") {
		w.Base = "http://" + w.Svc.Listens // the public address is somebody else's
	}
	var once sync.Once
	w.stop = func() { once.Do(func() { w.Svc.Stop(context.Background()) }) }
	t.Cleanup(w.stop)
	t.Cleanup(func() { // what it logged last tells why
		if t.Failed() {
			text := w.Log.String()
			t.Logf("the service said last:\n%s", text[max(0, len(text)-4000):])
		}
	})
	if token != "" {
		w.Token = token
		return w
	}
	if w.Svc.FirstPassword != "" {
		w.Token = w.choose("marit", w.Svc.FirstPassword)
		w.Must("PATCH", "/api/people/marit", Obj{"fullName": "Marit Aune"}, nil)
	} else {
		w.Token = w.SignIn("marit", Password)
	}
	return w
}

// laid is an empty database of today's shape.
var laid = sync.OnceValues(func() (_ []byte, err error) {
	dir, err := os.MkdirTemp("", "laid")
	if err != nil {
		return nil, fmt.Errorf("lay a database: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	path := filepath.Join(dir, "bouncer.db")
	s, err := store.Open(context.Background(), path, store.Options{})
	if err != nil {
		return nil, fmt.Errorf("lay a database: %w", err)
	}
	if err := s.Close(); err != nil {
		return nil, fmt.Errorf("lay a database: %w", err)
	}
	return os.ReadFile(path)
})

// lay puts an empty database where there is none, so that not every service of a test has to be
// brought to today's shape step by step, which is a quarter of its work.
func lay(t *testing.T, dir string) {
	path := filepath.Join(dir, "bouncer.db")
	if _, err := os.Stat(dir); err != nil { // which the service makes
		return
	}
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return
	}
	raw, err := laid()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, raw, 0o600))
}

// Stop ends the service before the test does.
func (w *World) Stop() { w.stop() }

func (w *World) choose(name, once string) string {
	token := w.SignIn(name, once)
	w.MustAs(token, "PUT", "/api/session/password", Obj{"old": once, "new": Password}, nil)
	return token
}

// SignIn returns a token for the command line.
func (w *World) SignIn(name, password string) string {
	w.T.Helper()
	var out struct{ Token string }
	w.MustAs("", "POST", "/api/tokens", Obj{"name": name, "password": password}, &out)
	return out.Token
}

// Person adds somebody and returns a token of theirs.
func (w *World) Person(name, full string, role team.Role) string {
	w.T.Helper()
	var out struct{ Password string }
	w.Must("POST", "/api/people", Obj{"name": name, "fullName": full, "role": role}, &out)
	return w.choose(name, out.Password)
}

// Do sends a request to the API and returns status and body.
func (w *World) Do(token, method, path string, in any) (int, []byte) {
	w.T.Helper()
	var body io.Reader
	if raw, ok := in.(string); ok {
		body = strings.NewReader(raw)
	} else if in != nil {
		raw, err := json.Marshal(in)
		require.NoError(w.T, err)
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequest(method, w.Base+path, body)
	require.NoError(w.T, err)
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.T, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(w.T, err)
	return res.StatusCode, raw
}

// Must sends a request as marit that has to succeed.
func (w *World) Must(method, path string, in, out any) {
	w.T.Helper()
	w.MustAs(w.Token, method, path, in, out)
}

// MustAs is Must for another token.
func (w *World) MustAs(token, method, path string, in, out any) {
	w.T.Helper()
	status, raw := w.Do(token, method, path, in)
	require.Less(w.T, status, 400, "%s %s: %s", method, path, raw)
	if out != nil {
		require.NoError(w.T, json.Unmarshal(raw, out), "%s", raw)
	}
}

// Problem is what is told about a request that failed.
type Problem struct {
	Status                   int
	Title, Field, Hint, Code string
}

// Problem sends a request that has to fail, and returns what was told.
func (w *World) Problem(method, path string, in any) Problem {
	w.T.Helper()
	return w.ProblemAs(w.Token, method, path, in)
}

// ProblemAs is Problem for somebody else.
func (w *World) ProblemAs(token, method, path string, in any) (p Problem) {
	w.T.Helper()
	status, raw := w.Do(token, method, path, in)
	require.GreaterOrEqual(w.T, status, 400, "%s %s: %s", method, path, raw)
	require.NoError(w.T, json.Unmarshal(raw, &p), "%s", raw)
	require.Equal(w.T, status, p.Status)
	return p
}

// Upstream serves a stand-in on loopback and returns the address of its
// endpoint.
func Upstream(t *testing.T, h http.Handler) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(func() { loopback.End(s) })
	return s.URL + "/mcp"
}

// Echo is a stand-in with the tools echo and fail, and slow, which answers when
// release is closed or the caller has gone.
func Echo(token string, release <-chan struct{}) *toolserver.Server {
	schema := `{"type":"object","properties":{"text":{"type":"string"}}}`
	return toolserver.New(
		"echo",
		"1.0",
		token,
		toolserver.Tool{
			Name:        "echo",
			Description: "Echoes.",
			Schema:      schema,
			ReadOnly:    true,
			Run:         func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("text"), nil },
		},
		toolserver.Tool{
			Name:        "fail",
			Description: "Fails.",
			Schema:      schema,
			Run:         func(context.Context, *toolserver.Call) (any, error) { return nil, io.ErrUnexpectedEOF },
		},
		toolserver.Tool{
			Name:        "slow",
			Description: "Takes its time.",
			Schema:      schema,
			Destructive: true,
			Run: func(ctx context.Context, c *toolserver.Call) (any, error) {
				c.Progress(1, 2, "half")
				select {
				case <-release:
					return "released " + c.Text("text"), nil
				case <-ctx.Done():
					return nil, ctx.Err()
				}
			},
		},
	)
}

// Register registers a server that has to be reachable.
func (w *World) Register(name, url, token string) {
	w.T.Helper()
	in := Obj{"name": name, "url": url}
	if token != "" {
		in["token"] = token
	}
	w.Must("POST", "/api/servers", in, nil)
}

// Rule adds a rule and returns its name.
func (w *World) Rule(effect, agent, server, tool string) string {
	w.T.Helper()
	var r apitype.RuleInfo
	w.Must("POST", "/api/rules", Obj{"effect": effect, "agent": agent, "server": server, "tool": tool, "anyway": true}, &r)
	return r.Name
}

// Agent adds an agent and returns a pass.
func (w *World) Agent(name string) string {
	w.T.Helper()
	w.Must("POST", "/api/agents", Obj{"name": name, "owner": "marit"}, nil)
	return w.Pass(name)
}

// Pass makes a pass for an agent.
func (w *World) Pass(agent string) string {
	w.T.Helper()
	return w.PassAs(w.Token, agent)
}

// PassAs makes a pass for an agent of somebody else.
func (w *World) PassAs(token, agent string) string {
	w.T.Helper()
	var p struct{ Token string }
	w.MustAs(token, "POST", "/api/agents/"+agent+"/passes", Obj{"days": 30, "label": "test"}, &p)
	return p.Token
}

// Calls returns the journal, newest first, once it has at least n records that
// match the query.
func (w *World) Calls(n int, query string) []team.Call {
	w.T.Helper()
	var out []team.Call
	require.Eventually(w.T, func() bool {
		out = nil
		w.Must("GET", "/api/calls?"+query, nil, &out)
		return len(out) >= n
	}, 30*time.Second, 20*time.Millisecond, "the journal has no %d calls for %q", n, query)
	return out
}

// Raw is an agent that speaks the protocol by hand.
type Raw struct {
	T       *testing.T
	URL     string
	Pass    string
	Session string
	Header  http.Header
}

// Raw opens a session at a path, in a revision.
func (w *World) Raw(path, pass, revision string) *Raw {
	w.T.Helper()
	return w.Able(path, pass, revision, "{}")
}

// Able is Raw for an agent with capabilities, as JSON.
func (w *World) Able(path, pass, revision, capabilities string) *Raw {
	w.T.Helper()
	r := &Raw{T: w.T, URL: w.Base + path, Pass: pass, Header: http.Header{}}
	res, body := r.Post(
		`{"jsonrpc":"2.0","id":"hello","method":"initialize","params":{"protocolVersion":"` + revision + `","capabilities":` + capabilities + `,"clientInfo":{"name":"raw","version":"1"}}}`,
	)
	require.Equal(w.T, 200, res.StatusCode, "%s", body)
	r.Session = res.Header.Get("Mcp-Session-Id")
	require.NotEmpty(w.T, r.Session)
	res, _ = r.Post(`{"jsonrpc":"2.0","method":"notifications/initialized"}`)
	require.Equal(w.T, 202, res.StatusCode)
	return r
}

// Request builds a request as the agent would send it.
func (r *Raw) Request(ctx context.Context, method, body string) *http.Request {
	req, err := http.NewRequestWithContext(ctx, method, r.URL, strings.NewReader(body))
	require.NoError(r.T, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "application/json, text/event-stream")
	req.Header.Set("Authorization", "Bearer "+r.Pass)
	if r.Session != "" {
		req.Header.Set("Mcp-Session-Id", r.Session)
	}
	for k, v := range r.Header {
		req.Header[k] = v
		if k == "Host" {
			req.Host = v[0]
		}
	}
	return req
}

// Post sends a body and returns the whole answer.
func (r *Raw) Post(body string) (*http.Response, string) {
	res, err := http.DefaultClient.Do(r.Request(context.Background(), "POST", body))
	require.NoError(r.T, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(r.T, err)
	return res, string(raw)
}

// Reply is a JSON-RPC answer.
type Reply struct {
	ID     json.RawMessage
	Method string
	Params json.RawMessage
	Result struct {
		IsError bool
		Content []struct{ Text string }
		Tools   []struct{ Name string }
	}
	Error *struct {
		Code    int
		Message string
		Data    map[string]string
	}
}

// Names are the names of the listed tools.
func (r Reply) Names() []string {
	out := []string{}
	for _, t := range r.Result.Tools {
		out = append(out, t.Name)
	}
	return out
}

// Ask sends a request and returns the answer, whether it comes as JSON or as a
// stream.
func (r *Raw) Ask(body string) Reply {
	r.T.Helper()
	res, text := r.Post(body)
	var out Reply
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		for _, line := range strings.Split(text, "\n") {
			if data, ok := strings.CutPrefix(line, "data: "); ok && data != "" {
				out = Reply{}
				require.NoError(r.T, json.Unmarshal([]byte(data), &out), "%s", data)
			}
		}
		return out
	}
	require.NoError(r.T, json.Unmarshal([]byte(text), &out), "%s %s", res.Status, text)
	return out
}

// CallTool calls a tool with a text.
func (r *Raw) CallTool(name, text string) Reply {
	r.T.Helper()
	args, err := json.Marshal(Obj{"text": text})
	require.NoError(r.T, err)
	return r.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"` + name + `","arguments":` + string(args) + `}}`)
}

// Names lists the names of the tools.
func (r *Raw) Names() []string {
	r.T.Helper()
	return r.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`).Names()
}

// Stateless sends a request of revision 2026-07-28 and returns the answer. params
// are raw members; capabilities is JSON.
func (r *Raw) Stateless(method, params, capabilities string) (*http.Response, string) {
	r.T.Helper()
	if params != "" {
		params += ","
	}
	body := `{"jsonrpc":"2.0","id":7,"method":"` + method + `","params":{` + params + `"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":` + capabilities + `}}}`
	var p struct {
		Params struct{ Name, URI string }
	}
	require.NoError(r.T, json.Unmarshal([]byte(body), &p), body)
	req := r.Request(context.Background(), "POST", body)
	req.Header.Set("Mcp-Protocol-Version", "2026-07-28")
	req.Header.Set("Mcp-Method", method)
	if subject := p.Params.Name + p.Params.URI; subject != "" {
		req.Header.Set("Mcp-Name", subject)
	}
	for k, v := range r.Header {
		req.Header[k] = v
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(r.T, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(r.T, err)
	return res, string(raw)
}

// Open sends a body and returns the data of the events of the answer, one by
// one. The channel is closed when the stream ends.
func (r *Raw) Open(ctx context.Context, body string) <-chan string {
	r.T.Helper()
	return r.stream(r.Request(ctx, "POST", body))
}

// Listen opens the GET stream and returns the data of its events. The channel
// is closed when the stream ends.
func (r *Raw) Listen(ctx context.Context) <-chan string {
	r.T.Helper()
	return r.stream(r.Request(ctx, "GET", ""))
}

func (r *Raw) stream(req *http.Request) <-chan string {
	r.T.Helper()
	res, err := http.DefaultClient.Do(req)
	require.NoError(r.T, err)
	require.Equal(r.T, 200, res.StatusCode)
	require.Equal(r.T, "text/event-stream", res.Header.Get("Content-Type"))
	out := make(chan string, 16)
	go func() {
		defer close(out)
		defer res.Body.Close()
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && data != "" {
				out <- data
			}
		}
	}()
	return out
}

// Events sends the messages of an answer to out, whether it is an event stream
// or a single one.
func Events(res *http.Response, out chan<- string) {
	if !strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		raw, _ := io.ReadAll(res.Body)
		out <- string(raw)
		return
	}
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && data != "" {
			out <- data
		}
	}
}

// Next returns the next event, or "" when the stream has ended.
func Next(t *testing.T, events <-chan string) string {
	t.Helper()
	select {
	case ev := <-events:
		return ev
	case <-time.After(30 * time.Second):
		require.Fail(t, "no event came")
		return ""
	}
}

// Listen is an address of loopback for a service that is started again at the same.
func Listen(t *testing.T) string {
	t.Helper()
	port, err := loopback.FreePort()
	require.NoError(t, err)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

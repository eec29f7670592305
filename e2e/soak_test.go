package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/gate"
	"bouncer/internal/testkit"
	"bouncer/standin/loopback"
)

// soakFor is how long the soak takes: a while among all tests, longer by setting
// BOUNCER_SOAK, as in 10m.
func soakFor(t *testing.T) time.Duration {
	v := os.Getenv("BOUNCER_SOAK")
	if v == "" {
		return 12 * time.Second
	}
	d, err := time.ParseDuration(v)
	require.NoError(t, err)
	return d
}

// hostile is a tool server that means harm: it answers with what costs most.
func hostile(t *testing.T) string {
	page := `{"name":"t%d","description":"` + strings.Repeat("d", 100_000) + `","inputSchema":{"type":"object"}}`
	var n atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var m struct {
			ID     json.RawMessage
			Method string
		}
		_ = json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&m)
		w.Header().Set("Content-Type", "application/json")
		switch m.Method {
		case "initialize":
			w.Header().Set("Mcp-Session-Id", fmt.Sprint(n.Add(1)))
			_, _ = fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{"tools":{"listChanged":true}},`+
				`"serverInfo":{"name":"harm","version":"1"},"instructions":"%s"}}`, m.ID, strings.Repeat("i", 200_000))
		case "tools/list": // endless, large pages
			var list []string
			for range 20 {
				list = append(list, fmt.Sprintf(page, n.Add(1)))
			}
			_, _ = fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"tools":[%s],"nextCursor":"%d"}}`, m.ID, strings.Join(list, ","), n.Add(1))
		case "":
			flood(w, r)
		default:
			_, _ = w.Write([]byte(strings.Repeat("\r\nevent: endpoint\rdata: x\r\r", 10_000)))
		}
	}))
	t.Cleanup(func() { loopback.End(s) })
	return s.URL + "/mcp"
}

// flood tells of changes without end.
func flood(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	for r.Context().Err() == nil {
		if _, err := io.WriteString(w, `data: {"jsonrpc":"2.0","method":"notifications/tools/list_changed"}`+"\n\n"); err != nil {
			return
		}
		_ = http.NewResponseController(w).Flush()
	}
}

// soak is what goes on while somebody means harm.
type soak struct {
	*testkit.World
	t        *testing.T
	over     context.Context
	answered atomic.Int64 // calls of the team
	refused  atomic.Int64 // refusals that were answered
	mu       sync.Mutex   // guards took
	took     []time.Duration
	wait     sync.WaitGroup
}

// again does something until the soak is over, in so many goroutines.
func (s *soak) again(many int, do func(n int)) {
	for i := range many {
		s.wait.Go(func() {
			for n := i; s.over.Err() == nil; n += many {
				do(n)
			}
		})
	}
}

// work is a member of the team at work: every answer has to be the one to its call.
func (s *soak) work(pass, name string) {
	agent := s.Raw("/mcp", pass, "2025-11-25")
	s.again(1, func(n int) {
		text := fmt.Sprint(name, " ", n)
		r := agent.CallTool("echo__echo", text)
		if assert.Nil(s.t, r.Error, "%v", r.Error) && assert.Len(s.t, r.Result.Content, 1) {
			assert.Equal(s.t, text, r.Result.Content[0].Text)
			s.answered.Add(1)
		}
	})
}

// signIns signs somebody in now and then, from another address than the strangers'.
func (s *soak) signIns() {
	s.again(1, func(int) {
		begun := time.Now()
		status, raw := s.from("192.0.2.7", "/api/tokens", testkit.Obj{"name": "marit", "password": testkit.Password})
		if assert.Equal(s.t, 201, status, "%s", raw) {
			s.mu.Lock()
			s.took = append(s.took, time.Since(begun))
			s.mu.Unlock()
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-s.over.Done():
		}
	})
}

// from sends a request as the trusted proxy in front would for an address.
func (s *soak) from(address, path string, in any) (int, string) {
	raw, err := json.Marshal(in)
	if err != nil {
		return 0, ""
	}
	req, err := http.NewRequestWithContext(context.Background(), http.MethodPost, s.Base+path, bytes.NewReader(raw))
	if err != nil {
		return 0, ""
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("X-Forwarded-For", address)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(text)
}

// strangers guess, register programs, ask for consent and send nonsense.
func (s *soak) strangers() {
	s.again(6, func(n int) {
		at := fmt.Sprint("198.51.100.", n%5)
		switch n % 6 {
		case 0:
			s.from(at, "/api/session", testkit.Obj{"name": "marit", "password": fmt.Sprint("guess-number-", n)})
		case 1:
			s.from(at, "/api/session", testkit.Obj{"name": strings.Repeat("n", 1<<20), "password": "x"})
		case 2:
			s.from(at, "/oauth/register", testkit.Obj{"client_name": fmt.Sprint(n), "redirect_uris": []string{"https://stranger.example/back"}})
		case 3:
			s.from(at, "/api/tokens", testkit.Obj{"name": fmt.Sprint("nobody-", n), "password": "a-wrong-password"})
		case 4:
			s.from(at, "/mcp", testkit.Obj{"jsonrpc": "2.0", "id": n, "method": "initialize"})
		case 5:
			res, err := http.Get(s.Base + "/oauth/authorize?client_id=https%3A%2F%2F10.0.0.1%2Fx" + strconv.Itoa(n) + "&redirect_uri=x&state=" + strings.Repeat("s", 2000))
			if err == nil {
				_ = res.Body.Close()
			}
		}
	})
}

// unreached is an agent without any reach, which asks for made-up tools.
func (s *soak) unreached(pass string) {
	for i := range 3 {
		agent := s.Raw("/mcp", pass, "2025-11-25")
		s.again(1, func(n int) {
			name := "echo__echo"
			if n%2 == 1 {
				name = fmt.Sprint("made-up-", i, "-", n, strings.Repeat("x", 500))
			}
			if r := agent.CallTool(name, strings.Repeat("a", 5000)); r.Error != nil {
				s.refused.Add(1)
			}
		})
	}
	s.again(1, func(int) {
		plain := &testkit.Raw{T: s.t, URL: s.Base + "/mcp", Pass: pass}
		plain.Post(`{"jsonrpc":"2.0","id":"hello","method":"initialize","params":{"protocolVersion":"2025-11-25","capabilities":{},"clientInfo":{"name":"x","version":"1"}}}`)
	})
}

// member adds agents, reads what is there, and tries what is not theirs.
func (s *soak) member(token string) {
	s.again(1, func(n int) {
		s.Do(token, "POST", "/api/agents", testkit.Obj{"name": fmt.Sprint("m-", n), "owner": "ottilie"})
		s.Do(token, "PATCH", fmt.Sprint("/api/agents/m-", n), testkit.Obj{"confirmed": true})
		s.Do(token, "PUT", "/api/servers/echo/own", testkit.Obj{"agent": fmt.Sprint("m-", n), "value": "skf-other", "anyway": true})
		s.Do(token, "POST", "/api/rules", testkit.Obj{"effect": "admit", "agent": "*", "server": "*", "tool": "*"})
		s.Do(token, "GET", "/api/calls?limit=500", nil)
	})
}

// resident is how much memory a process holds, in MiB.
func resident(pid int) int {
	raw, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
	if err != nil {
		return 0
	}
	kib := regexp.MustCompile(`VmHWM:\s+(\d+)`).FindSubmatch(raw)
	if kib == nil {
		return 0
	}
	n, _ := strconv.Atoi(string(kib[1]))
	return n >> 10
}

// Strangers, a member, an agent without reach and a tool server mean harm, all at
// once, while a team works: no answer is lost or wrong, memory stays bounded, people
// sign in, and everything is on record.
func TestATeamWorksWhileOthersMeanHarm(t *testing.T) {
	t.Parallel()
	cmd, base, lines := begin(t, "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--log-level", "error", "--trusted-proxies", "127.0.0.0/8")
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.True(t, lines.Scan())
	once := regexp.MustCompile(`one-time password (\S+)`).FindStringSubmatch(lines.Text())
	require.NotNil(t, once)
	w := &testkit.World{T: t, Base: base}
	w.Token = w.SignIn("marit", once[1])
	w.Must("PUT", "/api/session/password", testkit.Obj{"old": once[1], "new": testkit.Password}, nil)
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Must("POST", "/api/servers", testkit.Obj{"name": "harm", "url": hostile(t), "anyway": true}, nil)
	var passes []string
	for i := range 4 {
		name := fmt.Sprint("team-", i)
		passes = append(passes, w.Agent(name))
		w.Rule("admit", name, "*", "*")
	}
	unreached := w.Agent("unreached")
	over, stop := context.WithTimeout(t.Context(), soakFor(t))
	defer stop()
	s := &soak{World: w, t: t, over: over}
	for i, pass := range passes {
		s.work(pass, fmt.Sprint("team-", i))
	}
	s.signIns()
	s.strangers()
	s.unreached(unreached)
	s.member(ottilie)
	s.wait.Wait()

	recorded := func(query string) (n int64) {
		var buckets []team.Bucket
		w.Must("GET", "/api/call-counts?step=86400&"+query, nil, &buckets)
		for _, b := range buckets {
			n += int64(b.OK + b.Refused + b.Failed)
		}
		return n
	}
	require.Eventually(t, func() bool { return recorded("server=echo&outcome=ok") == s.answered.Load() }, 60*time.Second, 100*time.Millisecond,
		"%d calls were answered", s.answered.Load())
	require.Eventually(t, func() bool { return recorded("agent=unreached") >= s.refused.Load() }, 60*time.Second, 100*time.Millisecond,
		"%d refusals were answered", s.refused.Load())
	var state team.JournalState
	w.Must("GET", "/api/journal", nil, &state)
	assert.Zero(t, state.Lost)
	var rows []team.Call
	w.Must("GET", "/api/calls?agent=unreached&limit=500", nil, &rows)
	assert.Less(t, len(rows), 490, "refusals that repeat are told as one")
	s.mu.Lock()
	slices.Sort(s.took)
	middle, longest := s.took[len(s.took)/2], s.took[len(s.took)-1]
	s.mu.Unlock()
	mib := resident(cmd.Process.Pid)
	assert.Less(t, mib, 400, "MiB of memory")
	// A hash alone takes as long as the machine is busy with other things, so that it is held
	// against what it takes there without the attack.
	var calm []time.Duration
	for range 5 {
		begun := time.Now()
		w.SignIn("marit", testkit.Password)
		calm = append(calm, time.Since(begun))
	}
	slices.Sort(calm)
	assert.Less(t, middle, 30*max(calm[len(calm)/2], 100*time.Millisecond), "signing in")
	var usage []gate.Usage
	w.Must("GET", "/api/limits", nil, &usage)
	for _, u := range usage {
		assert.LessOrEqual(t, u.Most, u.Limit, u.What)
	}
	t.Logf("%d calls, %d refusals in %d rows, %d MiB at most; signing in took %v in the middle and %v at most",
		s.answered.Load(), s.refused.Load(), len(rows), mib, middle.Round(time.Millisecond), longest.Round(time.Millisecond))
}

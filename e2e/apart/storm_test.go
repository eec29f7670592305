package apart

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/anishathalye/porcupine"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/cluster/ledger"
	"bouncer/internal/core/replication"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
	"bouncer/standin/toolserver"
)

const (
	manyAgents = 50
	manyBanned = 6 // of those, how many are refused now and then
	// grace is how long after a refusal was acknowledged a node may still let a call through: one that is
	// cut off, or stood still.
	grace = aloneFor + 4*time.Second
	// bannedFor is how long an agent is refused.
	bannedFor = grace + 5*time.Second
)

// storm is what goes on, and what came of it.
type storm struct {
	*testing.T
	net   *network
	token string
	began time.Time
	web   *http.Client

	mu       sync.Mutex // guards what follows
	answered map[string]time.Time
	arrived  map[string][]time.Time
	bans     []ban
	history  []porcupine.Operation
	tried    int
}

// ban is a time in which an agent was refused for certain.
type ban struct {
	agent    int
	from, to time.Time
}

// Three hosts with a node and a server of the cluster each are killed, paused and cut off from each
// other at random, under agents that call in strict mode and people that alter rules and a row of the
// register at all nodes. In the end the registers are equal; what people were told could have happened
// had there been one node; every answered call is on record once, and was carried once; and nobody's
// call was carried who was refused for longer than a node may be cut off. BOUNCER_CLUSTER_SEED repeats
// what happened when.
func TestAStormOverSeveralHosts(t *testing.T) {
	long := length(t)
	seed := rand.Uint64()
	if v := os.Getenv("BOUNCER_CLUSTER_SEED"); v != "" {
		var err error
		seed, err = strconv.ParseUint(v, 10, 64)
		require.NoError(t, err)
	}
	t.Logf("BOUNCER_CLUSTER_SEED=%d", seed)
	s := begin(t)
	s.start()
	passes := s.people()
	ctx, stop := context.WithTimeout(t.Context(), long)
	defer stop()
	var going sync.WaitGroup
	for i, pass := range passes {
		going.Go(func() { s.agent(ctx, i, pass) })
	}
	for i := range manyBanned {
		going.Go(func() { s.refuse(ctx, i) })
	}
	for i := range 3 {
		going.Go(func() { s.writer(ctx, i) })
	}
	s.weather(ctx, rand.New(rand.NewPCG(seed, 1))) //nolint:gosec // it has to be repeatable
	going.Wait()
	s.settle()
	s.judge()
}

// length is how long a test goes on; it is skipped where nobody says so.
func length(t *testing.T) time.Duration {
	t.Helper()
	long, err := time.ParseDuration(os.Getenv("BOUNCER_CLUSTER_TIME"))
	if err != nil {
		t.Skip("make cluster-test has it go on for ten minutes")
	}
	return long
}

// begin makes the hosts.
func begin(t *testing.T) *storm {
	t.Helper()
	n := lay(t, 3)
	n.bouncer = filepath.Join(t.TempDir(), "bouncer")
	for _, h := range n.hosts {
		h.bouncer = n.bouncer
	}
	build := exec.Command("go", "build", "-o", n.bouncer, "bouncer/cmd/bouncer")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	s := &storm{
		T: t, net: n, began: time.Now(), answered: map[string]time.Time{}, arrived: map[string][]time.Time{},
		web: &http.Client{Timeout: 6 * time.Second},
	}
	t.Cleanup(func() {
		for _, h := range n.hosts {
			end(h.node)
			end(h.broker)
			if t.Failed() {
				raw, _ := os.ReadFile(filepath.Join(h.dir, "log"))
				t.Logf("the log of host %d:\n%s", h.number, raw[max(0, len(raw)-3000):])
			}
		}
	})
	return s
}

// start starts all hosts.
func (s *storm) start() {
	s.Helper()
	for _, h := range s.net.hosts {
		h.serve()
	}
	for _, h := range s.net.hosts {
		h.start()
		s.ready(h)
	}
}

// ready waits until a node takes work.
func (s *storm) ready(h *host) {
	s.Helper()
	var last string
	ok := assert.Eventually(s, func() bool {
		res, err := s.web.Get("http://" + h.address + ":4680/readyz")
		if err != nil {
			last = err.Error()
			return false
		}
		defer res.Body.Close()
		raw, _ := io.ReadAll(res.Body)
		last = string(raw)
		return res.StatusCode == http.StatusOK
	}, 2*time.Minute, 100*time.Millisecond)
	require.True(s, ok, "host %d: %s", h.number, last)
}

// world is a node as the tests know it.
func (s *storm) world(h *host) *testkit.World {
	return &testkit.World{T: s.T, Base: "http://" + h.address + ":4680", Token: s.token}
}

// people sets up the server and the agents, and returns their passes.
func (s *storm) people() (passes []string) {
	s.Helper()
	w := s.world(s.net.hosts[0])
	s.token = w.SignIn("marit", firstPassword)
	w.Token = s.token
	listener, err := net.Listen("tcp", s.net.at(254)+":0")
	require.NoError(s, err)
	echo := toolserver.New("echo", "1.0", "", toolserver.Tool{
		Name: "echo", Schema: `{"type":"object"}`, Run: func(_ context.Context, c *toolserver.Call) (any, error) {
			text := c.Text("text")
			s.mu.Lock()
			s.arrived[text] = append(s.arrived[text], time.Now())
			s.mu.Unlock()
			return text, nil
		},
	})
	upstream := &http.Server{Handler: echo, ReadHeaderTimeout: time.Minute}
	go func() { _ = upstream.Serve(listener) }()
	s.Cleanup(func() { _ = upstream.Close() })
	w.Register("echo", "http://"+listener.Addr().String()+"/mcp", "")
	w.Rule("admit", "*", "*", "*")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "row", "owner": "marit"}, nil)
	for i := range manyAgents {
		passes = append(passes, w.Agent(fmt.Sprintf("agent-%d", i)))
	}
	return passes
}

// do sends something to a node; status is 0 when there was no answer.
func (s *storm) do(h *host, method, path string, header http.Header, body any) (status int, back http.Header, raw []byte) {
	in, err := json.Marshal(body)
	if text, ok := body.(string); ok {
		in, err = []byte(text), nil
	}
	assert.NoError(s, err)
	req, err := http.NewRequest(method, "http://"+h.address+":4680"+path, bytes.NewReader(in))
	assert.NoError(s, err)
	req.Header = header.Clone()
	req.Header.Set("Content-Type", "application/json")
	res, err := s.web.Do(req)
	if err != nil {
		return 0, nil, nil
	}
	defer res.Body.Close()
	if raw, err = io.ReadAll(res.Body); err != nil {
		return 0, nil, nil
	}
	return res.StatusCode, res.Header, raw
}

// some is a node at random.
func (s *storm) some() *host { return s.net.hosts[rand.IntN(len(s.net.hosts))] }

// agent calls, each time at some node, in a session that goes on at all of them.
func (s *storm) agent(ctx context.Context, number int, pass string) {
	ticker := time.NewTicker(400 * time.Millisecond)
	defer ticker.Stop()
	header := http.Header{"Authorization": {"Bearer " + pass}, "Accept": {"application/json, text/event-stream"}}
	const hello = `{"jsonrpc":"2.0","id":"h","method":"initialize","params":{"protocolVersion":"2025-06-18","capabilities":{},` +
		`"clientInfo":{"name":"quill","version":"1"}}}`
	for k := 0; ; k++ {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		h := s.some()
		if header.Get("Mcp-Session-Id") == "" {
			_, back, _ := s.do(h, "POST", "/mcp", header, hello)
			if id := back.Get("Mcp-Session-Id"); id != "" {
				header.Set("Mcp-Session-Id", id)
			}
			continue
		}
		text := fmt.Sprintf("call-%d-%d.", number, k)
		status, _, raw := s.do(h, "POST", "/mcp", header,
			`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"`+text+`"}}}`)
		if status == http.StatusNotFound {
			header.Del("Mcp-Session-Id")
		}
		s.mu.Lock()
		s.tried++
		if status == http.StatusOK && bytes.Contains(raw, []byte(`"text":"`+text+`"`)) && !bytes.Contains(raw, []byte(`"error"`)) {
			s.answered[text] = time.Now()
		}
		s.mu.Unlock()
	}
}

func (s *storm) header() http.Header { return http.Header{"Authorization": {"Bearer " + s.token}} }

// refuse refuses an agent everything for a while, again and again.
func (s *storm) refuse(ctx context.Context, number int) {
	agent := fmt.Sprintf("agent-%d", number)
	for ctx.Err() == nil {
		var rule apitype.RuleInfo
		status, _, raw := s.do(s.some(), "POST", "/api/rules", s.header(),
			testkit.Obj{"effect": "refuse", "agent": agent, "server": "*", "tool": "*", "anyway": true})
		acknowledged := time.Now()
		if status < 200 || status > 299 || json.Unmarshal(raw, &rule) != nil {
			wait(ctx, time.Second)
			continue // it may be refused all the same, which is nobody's loss
		}
		wait(ctx, bannedFor)
		s.mu.Lock()
		s.bans = append(s.bans, ban{number, acknowledged, time.Now()})
		s.mu.Unlock()
		for ctx.Err() == nil {
			status, _, _ := s.do(s.some(), "DELETE", "/api/rules/"+rule.Name, s.header(), nil)
			if status == http.StatusNoContent || status == http.StatusNotFound {
				break
			}
			wait(ctx, time.Second)
		}
		wait(ctx, 2*time.Second)
	}
}

func wait(ctx context.Context, long time.Duration) {
	select {
	case <-time.After(long):
	case <-ctx.Done():
	}
}

// What can come of an alteration that was made from a version.
const (
	done    = "done"
	refused = "refused" // somebody else was quicker
	unknown = "unknown" // it may hold, or may come to hold
)

// writer alters one row from the version that a node has.
func (s *storm) writer(ctx context.Context, number int) {
	kinds := []string{"assistant", "service"}
	for k := 0; ctx.Err() == nil; k++ {
		wait(ctx, 150*time.Millisecond)
		var row struct{ Version int }
		h := s.some()
		if status, _, raw := s.do(h, "GET", "/api/agents/row", s.header(), nil); status != http.StatusOK || json.Unmarshal(raw, &row) != nil {
			continue
		}
		called := time.Since(s.began).Nanoseconds()
		status, _, _ := s.do(h, "PATCH", "/api/agents/row", s.header(), testkit.Obj{"version": row.Version, "kind": kinds[k%2]})
		op := porcupine.Operation{
			ClientId: number, Input: row.Version, Call: called, Output: unknown, Return: time.Since(s.began).Nanoseconds(),
		}
		switch status {
		case http.StatusOK:
			op.Output = done
		case http.StatusConflict:
			op.Output = refused
		default:
			op.Return = int64(1) << 60 // it may come to hold at any time
		}
		s.mu.Lock()
		s.history = append(s.history, op)
		s.mu.Unlock()
	}
}

// weather is what goes wrong, one thing after another.
func (s *storm) weather(ctx context.Context, r *rand.Rand) {
	seconds := func(from, to int) time.Duration {
		return time.Duration(from*1000+r.IntN((to-from)*1000)) * time.Millisecond
	}
	for ctx.Err() == nil {
		h, other := s.net.hosts[r.IntN(3)], s.net.hosts[r.IntN(3)]
		long := seconds(1, 4)
		what := r.IntN(7)
		s.Logf("%s host %d: %s for %s", time.Since(s.began).Round(time.Millisecond), h.number,
			[]string{"the node is killed", "the server is killed", "the node stands still", "the server stands still", "cut off",
				"cut off for long", "the servers of two are killed"}[what], long)
		switch what {
		case 0:
			end(h.node)
			wait(ctx, long)
			h.start()
		case 1:
			end(h.broker)
			wait(ctx, long)
			h.serve()
		case 2, 3:
			of := h.node
			if what == 3 {
				of = h.broker
			}
			pause(of, true)
			wait(ctx, min(long, 3*time.Second))
			pause(of, false)
		case 4:
			h.part(true)
			wait(ctx, long)
			h.part(false)
		case 5:
			h.part(true)
			wait(ctx, long+aloneFor)
			h.part(false)
		case 6:
			end(h.broker)
			if other != h {
				end(other.broker)
			}
			wait(ctx, long)
			h.serve()
			if other != h {
				other.serve()
			}
		}
		wait(ctx, seconds(2, 6))
	}
}

// settle waits until all nodes are there, and are level.
func (s *storm) settle() {
	s.Helper()
	for _, h := range s.net.hosts {
		s.ready(h)
	}
	require.Eventually(s, func() bool {
		newest := uint64(0)
		var applied []uint64
		for _, h := range s.net.hosts {
			var list apitype.Nodes
			if status, _, raw := s.do(h, "GET", "/api/nodes", s.header(), nil); status != http.StatusOK || json.Unmarshal(raw, &list) != nil {
				return false
			}
			for _, n := range list.Nodes {
				newest = max(newest, n.Last)
				if n.Here {
					applied = append(applied, n.Applied)
				}
			}
		}
		return len(applied) == 3 && applied[0] == newest && applied[1] == newest && applied[2] == newest
	}, 2*time.Minute, 200*time.Millisecond)
}

// judge holds what came of it against what it has to be.
func (s *storm) judge() {
	s.Helper()
	recorded := map[string]int{}
	for line := range bytes.Lines(s.export()) {
		var c team.Call
		require.NoError(s, json.Unmarshal(line, &c), "%s", line)
		var args struct{ Text string }
		if c.Outcome == team.OutcomeOK && json.Unmarshal([]byte(c.Arguments), &args) == nil {
			recorded[args.Text]++
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	late := 0
	for text := range s.answered {
		assert.Equal(s, 1, recorded[text], "%s was answered, and is to be on record once", text)
	}
	for text, at := range s.arrived {
		assert.Len(s, at, 1, "%s was carried more than once", text)
		for _, b := range s.bans {
			if !strings.HasPrefix(text, fmt.Sprintf("call-%d-", b.agent)) {
				continue
			}
			if at[0].After(b.from.Add(time.Second)) && at[0].Before(b.to) {
				late++
			}
			assert.False(s, at[0].After(b.from.Add(grace)) && at[0].Before(b.to), "%s was carried %s after it was refused", text, at[0].Sub(b.from))
		}
	}
	assert.Equal(s, porcupine.Ok, porcupine.CheckOperationsTimeout(versions, s.history, time.Minute), "the history of a row")
	s.Logf("%d calls were tried, %d carried, %d answered; %d times somebody was refused, and %d calls came more than a second after that, "+
		"through a node that was cut off; %d alterations of a row",
		s.tried, len(s.arrived), len(s.answered), len(s.bans), late, len(s.history))
	require.NotEmpty(s, s.answered)

	var differ []string
	assert.Eventually(s, func() bool { // when passes were used is noted a little later
		var sums []ledger.State
		for _, h := range s.net.hosts {
			sums = append(sums, s.sums(h))
		}
		differ = append(replication.Differ(sums[0].Sums, sums[1].Sums), replication.Differ(sums[0].Sums, sums[2].Sums)...)
		return len(differ) == 0
	}, 2*time.Minute, time.Second)
	assert.Empty(s, differ, "the registers")
}

// sums is what the register of a node adds up to.
func (s *storm) sums(h *host) ledger.State {
	s.Helper()
	db, err := store.Open(s.Context(), filepath.Join(h.dir, "data", "bouncer.db"), store.Options{})
	require.NoError(s, err)
	state, err := ledger.Of(db).Sums(s.Context())
	require.NoError(s, err)
	require.NoError(s, db.Close())
	return state
}

// export is the journal of all nodes.
func (s *storm) export() []byte {
	s.Helper()
	s.web.Timeout = 5 * time.Minute
	status, back, raw := s.do(s.net.hosts[0], "GET", "/api/call-export?tool=echo&since="+s.began.UTC().Format(time.RFC3339), s.header(), nil)
	require.Equal(s, http.StatusOK, status, "%s", raw)
	require.Empty(s, back.Get("Bouncer-Nodes-Silent"))
	return raw
}

// versions is a row that is altered from a version on to the next one. What is unknown may have been
// carried out or not.
var versions = (&porcupine.NondeterministicModel{
	Init: func() []any { return []any{1} },
	Step: func(state, input, output any) []any {
		have, from := state.(int), input.(int)
		switch {
		case output == done && have == from:
			return []any{from + 1}
		case output == refused && have != from:
			return []any{have}
		case output == unknown && have == from:
			return []any{have, from + 1}
		case output == unknown:
			return []any{have}
		}
		return nil
	},
}).ToModel()

package placement

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/link"
	"bouncer/internal/link/linktest"
	"bouncer/internal/link/stdio"
)

// TestMain lets the test binary play the process.
func TestMain(m *testing.M) {
	if os.Getenv("PLAY") != "" {
		play(os.Stdin)
		return
	}
	os.Exit(m.Run())
}

// play is a tool server whose one tool does what its text says.
func play(in io.Reader) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 4<<20)
	var out sync.Mutex
	say := func(format string, args ...any) {
		out.Lock()
		defer out.Unlock()
		fmt.Printf(format+"\n", args...)
	}
	cancelled := 0
	asking := ""
	for lines.Scan() {
		var m struct {
			ID     json.RawMessage
			Method string
			Result struct{ Content struct{ Berth string } }
			Params struct {
				URI       string
				Arguments struct{ Text string }
				Meta      struct{ ProgressToken json.RawMessage } `json:"_meta"`
			}
		}
		if json.Unmarshal(lines.Bytes(), &m) != nil {
			continue
		}
		answer := func(id, text string) {
			say(`{"jsonrpc":"2.0","id":%s,"result":{"content":[{"type":"text","text":%q}]}}`, id, text)
		}
		switch text := m.Params.Arguments.Text; {
		case m.Method == "initialize":
			say(`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{"tools":{},"resources":{"subscribe":true}},`+
				`"serverInfo":{"name":"berths","version":"1"}}}`, m.ID)
		case m.Method == "tools/list":
			say(`{"jsonrpc":"2.0","id":%s,"result":{"tools":[{"name":"echo","inputSchema":{"type":"object"}}]}}`, m.ID)
		case m.Method == "notifications/cancelled":
			cancelled++
		case m.Method == "" && asking != "":
			answer(asking, "moored at "+m.Result.Content.Berth)
		case text == "wait":
			say(`{"jsonrpc":"2.0","method":"notifications/progress","params":{"progressToken":%s,"progress":1}}`, m.Params.Meta.ProgressToken)
		case text == "ask":
			asking = string(m.ID)
			say(`{"jsonrpc":"2.0","id":"q","method":"elicitation/create","params":{"message":"which berth?"}}`)
		case text == "say":
			say(`{"jsonrpc":"2.0","method":"notifications/resources/updated","params":{"uri":"berth:4"}}`)
			answer(string(m.ID), "said")
		case text == "large":
			answer(string(m.ID), strings.Repeat("moored at berth 4; ", 80_000))
		case text == "cancelled":
			answer(string(m.ID), fmt.Sprint(cancelled))
		case text == "die":
			os.Exit(3)
		case m.Method == "tools/call":
			answer(string(m.ID), fmt.Sprint(os.Getpid()))
		case m.ID != nil:
			say(`{"jsonrpc":"2.0","id":%s,"result":{"%s":1,"resources":[],"resourceTemplates":[]}}`, m.ID, strings.ReplaceAll(m.Method, "/", "-"))
		}
	}
}

// sea is what the nodes of a test have in common.
type sea struct {
	mu     sync.Mutex
	to     map[string]func([]byte)
	leases map[string]string // by name, the node
	away   map[string]bool   // nodes that the cluster cannot be reached from
	nodes  []team.Node
	early  time.Duration // by which the clock of nodes is ahead
}

// port is a node's way to it.
type port struct {
	sea  *sea
	node string
}

func (p port) Send(node string, raw []byte) error {
	p.sea.mu.Lock()
	to := p.sea.to[node]
	p.sea.mu.Unlock()
	if to != nil {
		to(raw)
	}
	return nil
}

func (p port) Receive(fn func([]byte)) (func(), error) {
	line := make(chan []byte, 10_000)
	go func() {
		for raw := range line {
			fn(raw)
		}
	}()
	p.sea.mu.Lock()
	defer p.sea.mu.Unlock()
	p.sea.to[p.node] = func(raw []byte) { line <- raw }
	return func() {
		p.sea.mu.Lock()
		defer p.sea.mu.Unlock()
		delete(p.sea.to, p.node)
	}, nil
}

func (p port) MaxMessage() int { return 256 << 10 }

func (p port) Take(_ context.Context, name string) (*cluster.Lease, error) {
	p.sea.mu.Lock()
	defer p.sea.mu.Unlock()
	have := p.sea.leases[name]
	switch {
	case p.sea.away[p.node]:
		return nil, errors.New("it is not within reach")
	case have != "" && have != p.node:
		return nil, cluster.ErrTaken
	}
	p.sea.leases[name] = p.node
	return nil, nil
}

func (p port) Holder(_ context.Context, name string) (string, error) {
	p.sea.mu.Lock()
	defer p.sea.mu.Unlock()
	if p.sea.away[p.node] {
		return "", errors.New("it is not within reach")
	}
	return p.sea.leases[name], nil
}

// node is one of a test.
type node struct {
	*Placement
	moved chan string
}

func (s *sea) node(t *testing.T, name string, labels ...string) *node {
	t.Helper()
	s.mu.Lock()
	s.nodes = append(s.nodes, team.Node{Name: name, Labels: labels})
	s.mu.Unlock()
	n := &node{moved: make(chan string, 1000)}
	n.Placement = New(Options{
		Places: port{s, name}, Book: &gate.Book{}, Node: name, Labels: labels, Log: slog.New(slog.DiscardHandler),
		Moved: func(server string) { n.moved <- server },
		Nodes: func() []team.Node {
			s.mu.Lock()
			defer s.mu.Unlock()
			out := slices.Clone(s.nodes)
			for i := range out {
				out[i].Here = out[i].Name == name
			}
			return out
		},
		Now: func() time.Time {
			s.mu.Lock()
			defer s.mu.Unlock()
			return time.Now().Add(s.early)
		},
	})
	require.NoError(t, n.Start(port{s, name}, make([]byte, 32)))
	t.Cleanup(func() { n.Close(context.Background()) })
	return n
}

// alter alters what the nodes have in common, and has them look at it.
func (s *sea) alter(fn func(), nodes ...*node) {
	s.mu.Lock()
	fn()
	s.mu.Unlock()
	for _, n := range nodes {
		n.lookNow()
	}
}

// berths is the conversation that a node has with the process.
func (n *node) berths(t *testing.T, placement string) *Conn {
	t.Helper()
	local := stdio.New(
		stdio.Command{Server: "berths", Command: os.Args[0], Env: map[string]string{"PLAY": "berths"}},
		link.Options{SetupTimeout: 30 * time.Second},
	)
	server := team.Server{ID: "01", Name: "berths", Transport: team.Stdio, ServerOptions: team.ServerOptions{Placement: placement}}
	c, ok := n.Place(server, team.Holder{}, local).(*Conn)
	require.True(t, ok)
	t.Cleanup(func() { local.Close(context.Background()) })
	return c
}

func newSea() *sea {
	return &sea{to: map[string]func([]byte){}, leases: map[string]string{}, away: map[string]bool{}}
}

// both are two nodes of which the first runs the process.
func both(t *testing.T, s *sea) (host, guest *node, here, there *Conn) {
	t.Helper()
	host, guest = s.node(t, "north"), s.node(t, "south")
	here = host.berths(t, team.PlacedOnce)
	require.Eventually(t, here.isHere, 30*time.Second, time.Millisecond)
	there = guest.berths(t, team.PlacedOnce)
	_, _, err := there.Probe(t.Context())
	require.NoError(t, err)
	return host, guest, here, there
}

func said(t *testing.T, l link.Link, text string) string {
	t.Helper()
	out, err := linktest.Call(t.Context(), l, text)
	require.NoError(t, err)
	return out
}

// A node that does not run the process has all of it that one has who does.
func TestAProcessIsReachedFromOtherNodes(t *testing.T) {
	t.Parallel()
	_, guest, here, there := both(t, newSea())
	_, err := there.local.Open(t.Context()) // as whoever tries whether it answers
	require.NoError(t, err)
	guest.lookNow()
	require.Eventually(t, func() bool { return there.local.Diagnostics().PID == 0 }, 30*time.Second, time.Millisecond, "it runs there only")
	assert.Equal(t, "north", there.Diagnostics().Node)
	assert.Equal(t, "2025-11-25", there.Revision())
	o, err := there.Offer(t.Context())
	require.NoError(t, err)
	mine, err := here.Offer(t.Context())
	require.NoError(t, err)
	assert.Equal(t, mine, o)
	assert.Equal(t, "echo", o.Lists[tools.Tools][0].Name)
	process := said(t, there, "who")
	assert.Equal(t, process, said(t, here, "who"))
	assert.Equal(t, strings.Repeat("moored at berth 4; ", 80_000), said(t, there, "large"))

	// What it says by itself is heard at all nodes that listen, once for each subscription.
	heard := make(chan string, 10)
	there.SetListener(func(frame []byte, f wire.Frame, _ func([]byte)) bool {
		heard <- f.Method + " " + string(frame)
		return true
	})
	ctx, stop := context.WithCancel(t.Context())
	ready, ended := make(chan struct{}), make(chan bool)
	go func() { ended <- there.Listen(ctx, func() { close(ready) }) }()
	<-ready
	require.NoError(t, there.Subscribe(t.Context(), "berth:4", true))
	require.NoError(t, here.Subscribe(t.Context(), "berth:4", true))
	require.NoError(t, here.Subscribe(t.Context(), "berth:4", false))
	assert.Equal(t, map[string]bool{"south": true}, here.watched["berth:4"])
	said(t, here, "say")
	assert.Contains(t, <-heard, "notifications/resources/updated")
	stop()
	assert.True(t, <-ended)
	require.Eventually(t, func() bool {
		here.subscribing.Lock()
		defer here.subscribing.Unlock()
		return len(here.watched) == 0
	}, 30*time.Second, time.Millisecond, "who has left wants to hear nothing")
	require.NoError(t, there.Log(t.Context(), "info"))
	require.NoError(t, there.Notify(t.Context(), "notifications/roots/list_changed", nil))

	// Progress comes with the number that the request has there, and a cancel reaches the process.
	a := linktest.ToolCall(`{"name":"echo","arguments":{"text":"wait"},"_meta":{"progressToken":"mine"}}`)
	a.ID = there.NextID()
	x, err := there.Begin(t.Context(), a)
	require.NoError(t, err)
	frame, f, err := x.Next()
	require.NoError(t, err)
	assert.Equal(t, "notifications/progress", f.Method)
	assert.Contains(t, string(frame), fmt.Sprintf(`"progressToken":%d`, x.ID()))
	require.NoError(t, there.Cancel(t.Context(), a.ID, "it is late"))
	require.Eventually(t, func() bool { return said(t, here, "cancelled") == "1" }, 30*time.Second, 10*time.Millisecond)
	x.Close()

	_, err = linktest.Call(t.Context(), there, "die")
	var failed *link.Failure
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.OutcomeUnknown, failed.Cause)
	assert.Contains(t, failed.Message, "ended with code 3")
	assert.NotEqual(t, process, said(t, there, "who"), "it is started again")
}

// An agent of its own conversation has a process of its own there, which asks it; what is left of it
// ends with its node.
func TestAConversationOfOneAgent(t *testing.T) {
	t.Parallel()
	s := newSea()
	host, _, here, there := both(t, s)
	own := there.Fork(wire.EveryCap, true)
	asked := make(chan string, 1)
	own.SetListener(func(frame []byte, f wire.Frame, answer func([]byte)) bool {
		if f.Kind == wire.Request {
			asked <- f.Method
			answer([]byte(`{"jsonrpc":"2.0","id":` + string(f.ID.Of(frame)) + `,"result":{"content":{"berth":"berth 4"}}}`))
		}
		return true
	})
	ready := make(chan struct{})
	go own.Listen(t.Context(), func() { close(ready) })
	<-ready
	assert.NotEqual(t, said(t, here, "who"), said(t, own, "who"))
	assert.Equal(t, "moored at berth 4", said(t, own, "ask"))
	assert.Equal(t, "elicitation/create", <-asked)
	forks := func() int {
		host.mu.Lock()
		defer host.mu.Unlock()
		return len(host.forks)
	}
	assert.Equal(t, 1, forks())
	own.Close(t.Context())
	assert.Zero(t, forks())

	second := there.Fork(wire.EveryCap, true)
	said(t, second, "who")
	s.alter(func() { s.nodes = s.nodes[:1] }, host) // the other node is not there any more
	host.sweep()
	assert.Equal(t, 1, forks(), "it may come back")
	s.alter(func() { s.early = goneFor + time.Second }, host)
	host.sweep()
	assert.Zero(t, forks())
	for range maxForks {
		_, err := (&host2{host.Placement, here}).conversation(newTalk())
		require.NoError(t, err)
	}
	_, err := linktest.Call(t.Context(), there.Fork(wire.EveryCap, true), "who")
	var failed *link.Failure
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.TooManyProcesses, failed.Cause)
}

// host2 asks for conversations as another node does.
type host2 struct {
	p *Placement
	c *Conn
}

func (h *host2) conversation(talk string) (link.Transport, error) {
	inner := h.c.fork(wire.Caps{}, true)
	h.p.mu.Lock()
	defer h.p.mu.Unlock()
	if err := h.p.room.Take(gate.Holder{}, 1); err != nil {
		return nil, err
	}
	h.p.forks[fork{"south", talk}] = &forked{Transport: inner, c: h.c}
	return inner, nil
}

// A node that is drained hands its process over when what is under way has ended; one that is cut off
// ends it before another node may run it.
func TestAProcessMoves(t *testing.T) {
	t.Parallel()
	s := newSea()
	north, south, here, there := both(t, s)
	first := said(t, there, "who")
	own := there.Fork(wire.EveryCap, true)
	alone := said(t, own, "who")
	a := linktest.ToolCall(`{"name":"echo","arguments":{"text":"wait"},"_meta":{"progressToken":1}}`)
	x, err := here.Begin(t.Context(), a)
	require.NoError(t, err)
	_, _, err = x.Next()
	require.NoError(t, err)
	s.alter(func() { s.nodes[0].Draining = true }, north)
	require.Eventually(t, func() bool { return !here.isHere() }, 30*time.Second, time.Millisecond, "nothing new is begun")
	assert.NotZero(t, here.local.Diagnostics().PID, "what is under way goes on")
	x.Close()
	require.Eventually(t, func() bool { return here.local.Diagnostics().PID == 0 }, 30*time.Second, time.Millisecond)
	s.alter(func() { clear(s.leases) }, south) // as the lease that is given back does
	require.Eventually(t, there.isHere, 30*time.Second, time.Millisecond)
	second := said(t, here, "who")
	assert.NotEqual(t, first, second)
	assert.Equal(t, second, said(t, there, "who"))
	assert.Equal(t, "01", <-south.moved)

	// The conversation of one agent begins anew where the process runs by now.
	_, err = linktest.Call(t.Context(), own, "who")
	var gone *link.Failure
	require.ErrorAs(t, err, &gone)
	assert.Equal(t, diagnosis.NoNode, gone.Cause)
	assert.Contains(t, gone.Message, "the node north does not run it now")
	assert.NotContains(t, []string{first, second, alone}, said(t, own, "who"))
	own.Close(t.Context())

	s.alter(func() { s.away["south"] = true }, south)
	assert.Equal(t, second, said(t, there, "who"), "as long as nobody else may run it")
	s.alter(func() { s.early = leaseTime + time.Second }, south)
	require.Eventually(t, func() bool { return there.local.Diagnostics().PID == 0 }, 30*time.Second, time.Millisecond)
	short, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	_, err = there.Begin(short, linktest.ToolCall(`{"name":"echo"}`))
	var failed *link.Failure
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.NoNode, failed.Cause)
	assert.True(t, failed.Refused)
	assert.Contains(t, failed.Message, "it is not known at which node it runs")
}

// What belongs to no process, or to one at every node, is left as it is; a server that nobody keeps any
// more gives its lease back.
func TestWhatIsPlaced(t *testing.T) {
	t.Parallel()
	s := newSea()
	quay, south := s.node(t, "quay", "cranes"), s.node(t, "south")
	local := stdio.New(stdio.Command{Server: "berths", Command: "true"}, link.Options{})
	for _, server := range []team.Server{
		{Transport: team.StreamableHTTP, ServerOptions: team.ServerOptions{Placement: team.PlacedOnce}},
		{Transport: team.Stdio}, {Transport: team.Stdio, ServerOptions: team.ServerOptions{Placement: team.PlacedEverywhere}},
	} {
		assert.Same(t, local, south.Place(server, team.Holder{}, local))
		assert.Same(t, local, (*Placement)(nil).Place(server, team.Holder{}, local))
	}
	here, there := quay.berths(t, "label:cranes"), south.berths(t, "label:cranes")
	assert.Equal(t, said(t, here, "who"), said(t, there, "who"))
	assert.Equal(t, "quay", south.Fits("label:cranes"))
	assert.Equal(t, "", quay.Fits("label:cranes"))
	assert.Equal(t, "", south.Fits(team.PlacedOnce))
	assert.Equal(t, "quay", south.Runs("berths"))
	assert.Equal(t, "", quay.Runs("berths"))
	assert.Equal(t, "", south.Runs("sailings"))

	there.Close(t.Context())
	require.Eventually(t, func() bool {
		south.mu.Lock()
		defer south.mu.Unlock()
		return len(slices.Collect(maps.Keys(south.kept))) == 0
	}, 30*time.Second, time.Millisecond)
	assert.NotEmpty(t, said(t, there, "who"), "who uses it again keeps it again")
	south.mu.Lock()
	assert.Len(t, south.kept, 1)
	south.mu.Unlock()
}

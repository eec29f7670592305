package budget_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

// slow is a world whose server answers when it is told to.
func slow(t *testing.T, data string) (w *testkit.World, running chan string, release chan struct{}) {
	s := testkit.NewScript(t)
	running, release = make(chan string, 100), make(chan struct{}, 100)
	s.Call = func(c *testkit.ScriptCall) {
		running <- string(c.Params)
		<-release
		c.Text(strings.Repeat("x", 700))
	}
	flags := map[string]string{}
	if data != "" {
		flags["data"] = data
	}
	w = testkit.Start(t, flags)
	w.Register("pumps", testkit.Upstream(t, s), "")
	w.Rule("admit", "*", "pumps", "*")
	for _, name := range []string{"quay-voice", "night-watch"} {
		w.Must("POST", "/api/agents", obj{"name": name}, nil)
	}
	t.Cleanup(func() { close(release) })
	return w, running, release
}

// What is over a budget is refused, with what is spent and until when; another window and
// another agent begin anew, and reach tells what the next call would meet.
func TestBudgetsAreKept(t *testing.T) {
	t.Parallel()
	w, running, release := slow(t, "")
	w.Must("POST", "/api/budgets", obj{"name": "day", "agent": "*", "server": "pumps", "tool": "*", "per": "agent", "window": "day", "calls": 2}, nil)
	voice, watch := w.Raw("/mcp", w.Pass("quay-voice"), "2025-11-25"), w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	call := func(a *testkit.Raw) testkit.Reply {
		release <- struct{}{}
		r := a.CallTool("pumps__act", "x")
		if r.Error != nil {
			<-release
		} else {
			<-running
		}
		return r
	}
	assert.Nil(t, call(voice).Error)
	assert.Nil(t, call(voice).Error)
	r := call(voice)
	require.NotNil(t, r.Error)
	assert.Contains(t, r.Error.Message, "budget day is spent: 2 calls a day; again at ")
	assert.Equal(t, []string{"budget-spent", "day"}, []string{r.Error.Data["reason"], r.Error.Data["budget"]})
	assert.NotEmpty(t, r.Error.Data["until"])
	assert.Nil(t, call(watch).Error, "each for themselves")
	spent := w.Calls(1, "agent=quay-voice&outcome=refused")[0]
	assert.Equal(t, "day", spent.Control.Budget)
	assert.Equal(t, "refuse", spent.Decision)
	var reach []apitype.ReachedTool
	w.Must("GET", "/api/agents/quay-voice/reach", nil, &reach)
	assert.Equal(t, "spent", reach[0].Next)
	assert.Contains(t, reach[0].Lacks, "budget day is spent")
	var b apitype.BudgetInfo
	w.Must("GET", "/api/budgets/day", nil, &b)
	assert.Equal(t, "[{quay-voice 2 1 0} {night-watch 1 0 0}]", fmt.Sprint(b.Uses))

	w.Must("PATCH", "/api/budgets/day", obj{"allowance": obj{"agent": "*", "server": "pumps", "tool": "*", "per": "agent", "window": "day", "calls": 3}}, nil)
	assert.Nil(t, call(voice).Error, "what is used stays, what is allowed is more")
	assert.NotNil(t, call(voice).Error)
	w.Must("POST", "/api/budgets/day/reset", nil, nil)
	assert.Nil(t, call(voice).Error)
	w.Must("PATCH", "/api/budgets/day", obj{"allowance": obj{"agent": "*", "server": "pumps", "tool": "*", "per": "all", "window": "day", "kib": 1}}, nil)
	assert.Nil(t, call(voice).Error)
	assert.Nil(t, call(watch).Error)
	r = call(voice)
	require.NotNil(t, r.Error)
	assert.Contains(t, r.Error.Message, "1 KiB a day")
	w.Clock.Forward(24 * time.Hour)
	assert.Nil(t, call(voice).Error, "tomorrow is another day")

	for field, in := range map[string]obj{
		"name": {"name": "A B"}, "per": {"name": "x", "agent": "*", "server": "*", "tool": "*", "per": "x"},
		"calls": {"name": "x", "agent": "*", "server": "*", "tool": "*", "per": "all"},
	} {
		assert.Equal(t, field, w.Problem("POST", "/api/budgets", in).Field)
	}
	w.Must("DELETE", "/api/budgets/day", nil, nil)
	assert.Nil(t, call(voice).Error)
}

// Calls over a number at a time are refused, or wait, agents in turn; what they wait for is
// given back when they leave.
func TestCallsAtATime(t *testing.T) {
	t.Parallel()
	w, running, release := slow(t, "")
	w.Must("POST", "/api/budgets", obj{"name": "two", "agent": "quay-voice", "server": "*", "tool": "*", "per": "agent", "atOnce": 2}, nil)
	voice := w.Raw("/mcp", w.Pass("quay-voice"), "2025-11-25")
	watch := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	var done sync.WaitGroup
	start := func(a *testkit.Raw, id, text string) {
		done.Go(func() {
			a.Post(`{"jsonrpc":"2.0","id":"` + id + `","method":"tools/call","params":{"name":"pumps__act","arguments":{"text":"` + text + `"}}}`)
		})
	}
	start(voice, "a", "v1")
	start(voice, "b", "v2")
	<-running
	<-running
	assert.Contains(t, voice.CallTool("pumps__act", "x").Error.Message, "allows 2 calls at a time")
	release <- struct{}{}
	release <- struct{}{}
	done.Wait()
	w.Must("DELETE", "/api/budgets/two", nil, nil)

	w.Must("POST", "/api/budgets", obj{"name": "turns", "agent": "*", "server": "pumps", "tool": "*", "per": "all", "atOnce": 1, "waits": true}, nil)
	start(voice, "1", "v1")
	assert.Contains(t, <-running, "v1")
	waiting := func(n int) {
		var b apitype.BudgetInfo
		require.Eventually(t, func() bool {
			w.Must("GET", "/api/budgets/turns", nil, &b)
			return len(b.Uses) == 1 && b.Uses[0].AtOnce == n
		}, 20*time.Second, 10*time.Millisecond)
	}
	for i, text := range []string{"v2", "v3", "v4"} {
		start(voice, fmt.Sprint("w", i), text)
		waiting(i + 2)
	}
	start(watch, "1", "w1")
	waiting(5)
	ctx, leave := context.WithCancel(context.Background())
	left := voice.Open(ctx, `{"jsonrpc":"2.0","id":"gone","method":"tools/call","params":{"name":"pumps__act","arguments":{"text":"gone"}}}`)
	waiting(6)
	voice.Post(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":"gone"}}`)
	waiting(5)
	leave()
	for range left {
	}
	order := []string{}
	for range 4 {
		release <- struct{}{}
		got := <-running
		order = append(order, got[strings.Index(got, `"text":"`)+8:][:2])
	}
	assert.Equal(t, []string{"v2", "w1", "v3", "v4"}, order, "agents in turn: who comes in numbers waits for themselves")
	release <- struct{}{}
	done.Wait()
	waiting(0)
}

// What is used outlives the service.
func TestUseOutlivesTheService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w, running, release := slow(t, dir)
	w.Must("POST", "/api/budgets", obj{"name": "month", "agent": "*", "server": "*", "tool": "*", "per": "person", "window": "month", "calls": 1}, nil)
	pass := w.Pass("quay-voice")
	release <- struct{}{}
	assert.Nil(t, w.Raw("/mcp", pass, "2025-11-25").CallTool("pumps__act", "x").Error)
	<-running
	w.Stop()
	again := testkit.Start(t, map[string]string{"data": dir})
	assert.Contains(t, again.Raw("/mcp", pass, "2025-11-25").CallTool("pumps__act", "x").Error.Message, "budget month is spent")
}

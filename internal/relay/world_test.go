package relay

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/origin"
)

// town is a world with many servers and tools, and two agents: one that reaches
// fifty tools, one that reaches none.
func town(servers, each int) *World {
	w := &World{
		Passes: map[[32]byte]*Pass{}, Servers: map[string]*Server{}, Ask: "Marit Aune",
		Agents: map[string]*Agent{"1": {ID: "1", Name: "marit-quill"}, "2": {ID: "2", Name: "stranger"}},
		Rules: rules.NewSet([]rules.Rule{
			{ID: "r1", Effect: rules.Admit, Agent: "marit-quill", Server: "server-0", Tool: "*"},
			{ID: "r2", Effect: rules.Refuse, Agent: "*", Server: "server-0", Tool: "tool-7"},
		}),
	}
	for i := range servers {
		s := &Server{Name: fmt.Sprintf("server-%d", i)}
		var list []tools.Tool
		for j := range each {
			name := fmt.Sprintf("tool-%d", j)
			list = append(list, tools.Tool{Name: name, Raw: json.RawMessage(`{"name":"` + name + `","inputSchema":{"type":"object"}}`)})
		}
		s.Offer.Lists = map[tools.Kind][]tools.Tool{tools.Tools: list}
		w.Servers[s.Name] = s
	}
	return w
}

// shown is the first page of the tools that a shelf shows to agents of an era.
func shown(t *testing.T, s *shelf, stateless bool) []byte {
	page, ok := s.lists[tools.Tools].page("", stateless)
	require.True(t, ok)
	return page
}

func TestViewHoldsTheReachAndNothingElse(t *testing.T) {
	w := town(200, 51)
	v := w.View(w.Agents["1"])
	var list struct{ Tools []struct{ Name string } }
	require.NoError(t, json.Unmarshal(shown(t, v.shelf(""), false), &list))
	require.Len(t, list.Tools, 50)
	assert.Equal(t, "server-0__tool-0", list.Tools[0].Name)
	require.NoError(t, json.Unmarshal(shown(t, v.shelf("server-0"), false), &list))
	assert.Equal(t, "tool-0", list.Tools[0].Name)
	assert.JSONEq(t, `{"tools":[]}`, string(shown(t, v.shelf("server-1"), false)))
	assert.Nil(t, v.shelf("nowhere"))
	assert.Nil(t, v.shelf("").lists[tools.Tools].names["server-0__tool-7"])
	assert.Equal(t, "tool-3", v.shelf("").lists[tools.Tools].names["server-0__tool-3"].Tool.Name)
	assert.JSONEq(t, `{"tools":[]}`, string(shown(t, w.View(w.Agents["2"]).shelf(""), false)))
	assert.Same(t, v, w.View(w.Agents["1"]), "a view is computed once")
	assert.Equal(t, v.shelf("").digests(), town(200, 51).View(w.Agents["1"]).shelf("").digests(), "the same reach has the same digest")
}

func TestRefusalExplains(t *testing.T) {
	w := town(3, 10)
	w.Servers["server-2"].Paused = true
	me := w.Agents["1"]
	for name, row := range map[string]struct {
		scope, tool string
		exists      bool
		why         string
	}{
		"a rule refuses":                {"", "server-0__tool-7", true, "refused by rule r2"},
		"no rule admits":                {"", "server-1__tool-1", true, "no rule admits it; ask Marit Aune"},
		"at one server's address":       {"server-1", "tool-1", true, "no rule admits it"},
		"an unknown tool":               {"", "server-1__tool-99", false, "there is no tool"},
		"an unknown tool of one server": {"server-1", "tool-99", false, "there is no tool"},
		"a name of the other address":   {"server-1", "server-1__tool-1", false, "there is no tool"},
	} {
		t.Run(name, func(t *testing.T) {
			target, why := w.Refusal(me, tools.Tools, row.scope, row.tool)
			assert.Equal(t, row.exists, target != nil)
			assert.Contains(t, why, row.why)
		})
	}
	w.Rules = rules.NewSet([]rules.Rule{{Effect: rules.Admit, Agent: "*", Server: "*", Tool: "*"}})
	_, why := w.Refusal(me, tools.Tools, "", "server-2__tool-1")
	assert.Contains(t, why, "server server-2 is paused")
}

func TestSessionsAreBoundedAndEndWithTheirCalls(t *testing.T) {
	left := 0
	set := newSessions(func(*Session) { left++ })
	p := &Pass{ID: "p", AgentID: "1"}
	for range maxAgentSessions {
		require.True(t, set.open(&Session{}, p, time.Now()))
	}
	assert.False(t, set.open(&Session{}, p, time.Now()), "one agent cannot take all the room")
	other, another := &Session{}, &Session{}
	require.True(t, set.open(other, &Pass{ID: "q", AgentID: "2"}, time.Now()))
	require.True(t, set.open(another, &Pass{ID: "q", AgentID: "2"}, time.Now()))
	assert.NotEqual(t, other.id, another.id)

	var causes []error
	var mu sync.Mutex
	note := func(err error) { mu.Lock(); defer mu.Unlock(); causes = append(causes, err) }
	require.True(t, other.begin("1", note))
	assert.False(t, other.begin("1", note), "an id in use is refused")
	require.True(t, other.begin("2", note))
	other.cancel("1", errCanceled)
	other.cancel("nobody", errCanceled)
	other.finish("1")
	assert.True(t, other.begin("1", note), "an id can be used again")
	for i := range maxSessionCalls {
		other.begin(fmt.Sprint("n", i), note)
	}
	assert.False(t, other.begin("one too many", note))
	ended, ok := other.attach()
	require.True(t, ok)
	_, twice := other.attach()
	assert.False(t, twice, "one stream at a time")
	causes = nil
	set.end(other, errRevoked)
	<-ended
	assert.Len(t, causes, maxSessionCalls)
	assert.ErrorIs(t, causes[0], errRevoked)
	assert.Nil(t, set.get(other.id))
	assert.False(t, other.begin("late", note), "an ended session takes no calls")
	set.end(other, errRevoked)
	assert.Equal(t, 1, left, "it is left once")
}

func TestIdleSessionsAreSweptAndBusyOnesStay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := NewDoor(t.Context(), nil, Options{Guard: origin.New(), Log: slog.Default()})
		p := &Pass{ID: "p", AgentID: "1"}
		open := func() *Session {
			s := &Session{}
			require.True(t, d.sessions.open(s, p, time.Now()))
			return s
		}
		idle := open()
		busy := open()
		_, ok := busy.attach()
		require.True(t, ok)
		time.Sleep(idleSession / 2)
		fresh := open()
		time.Sleep(idleSession/2 + 2*sweepEvery)
		synctest.Wait()
		assert.Nil(t, d.sessions.get(idle.id))
		assert.NotNil(t, d.sessions.get(busy.id))
		assert.NotNil(t, d.sessions.get(fresh.id))
		d.Close(t.Context())
	})
}

func BenchmarkToolsListOfFiftyAmongTenThousand(b *testing.B) {
	w := town(200, 51)
	for b.Loop() {
		w.views = nil // as after every change
		_, _ = w.View(w.Agents["1"]).shelf("").lists[tools.Tools].page("", false)
	}
}

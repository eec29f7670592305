package snapshot

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
)

// town is a world with many servers and tools, and two agents: one that reaches
// fifty tools, one that reaches none.
func town(servers, each int) *Snapshot {
	w := &Snapshot{
		Passes: map[[32]byte]*Pass{}, Servers: map[string]*Server{}, Contacts: "Marit Aune",
		Agents: map[string]*Agent{"1": {ID: "1", Name: "marit-quill", Confirmed: true}, "2": {ID: "2", Name: "stranger"}},
		Rules: rules.Compile([]rules.Rule{
			{ID: "r1", Effect: rules.Admit, Agent: "marit-quill", Server: "server-0", Tool: "*"},
			{ID: "r2", Name: "r2", Effect: rules.Refuse, Agent: "*", Server: "server-0", Tool: "tool-7"},
		}, time.Time{}, nil),
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
func shown(t *testing.T, s *Catalog, stateless bool) []byte {
	page, ok := s.lists[tools.Tools].page("", stateless)
	require.True(t, ok)
	return page
}

func TestViewHoldsTheReachAndNothingElse(t *testing.T) {
	t.Parallel()
	w := town(200, 51)
	v := w.ReachOf(w.Agents["1"], rules.Circumstances{})
	var list struct{ Tools []struct{ Name string } }
	require.NoError(t, json.Unmarshal(shown(t, v.Catalog(""), false), &list))
	require.Len(t, list.Tools, 50)
	assert.Equal(t, "server-0__tool-0", list.Tools[0].Name)
	require.NoError(t, json.Unmarshal(shown(t, v.Catalog("server-0"), false), &list))
	assert.Equal(t, "tool-0", list.Tools[0].Name)
	assert.JSONEq(t, `{"tools":[]}`, string(shown(t, v.Catalog("server-1"), false)))
	assert.Nil(t, v.Catalog("nowhere"))
	assert.Nil(t, v.Catalog("").lists[tools.Tools].names["server-0__tool-7"])
	assert.Equal(t, "tool-3", v.Catalog("").lists[tools.Tools].names["server-0__tool-3"].Tool.Name)
	assert.JSONEq(t, `{"tools":[]}`, string(shown(t, w.ReachOf(w.Agents["2"], rules.Circumstances{}).Catalog(""), false)))
	assert.Same(t, v, w.ReachOf(w.Agents["1"], rules.Circumstances{}), "a view is computed once")
	assert.Equal(
		t,
		v.Catalog("").Digests(),
		town(200, 51).ReachOf(w.Agents["1"], rules.Circumstances{}).Catalog("").Digests(),
		"the same reach has the same digest",
	)
}

func TestRefusalExplains(t *testing.T) {
	t.Parallel()
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
			target, why := w.Refusal(me, rules.Circumstances{}, tools.Tools, row.scope, row.tool)
			assert.Equal(t, row.exists, target != nil)
			assert.Contains(t, why, row.why)
		})
	}
	w.Rules = rules.Compile([]rules.Rule{{Effect: rules.Admit, Agent: "*", Server: "*", Tool: "*"}}, time.Time{}, nil)
	w.bounds = nil
	_, why := w.Refusal(me, rules.Circumstances{}, tools.Tools, "", "server-2__tool-1")
	assert.Contains(t, why, "server server-2 is paused")
}

func BenchmarkToolsListOfFiftyAmongTenThousand(b *testing.B) {
	w := town(200, 51)
	for b.Loop() {
		w.bounds = nil // as after every change
		_, _ = w.ReachOf(w.Agents["1"], rules.Circumstances{}).Catalog("").lists[tools.Tools].page("", false)
	}
}

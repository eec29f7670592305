package why_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

// stage is an agent that nothing stands in the way of, and what is asked about it.
type stage struct {
	*testkit.World
	t      *testing.T
	script *testkit.Script
	agent  *testkit.Raw
	pass   string
	rule   string
}

func set(t *testing.T) stage {
	w := testkit.Start(t, nil)
	script := testkit.NewScript(t)
	script.Call = func(c *testkit.ScriptCall) { c.Text("free") }
	w.Register("radio", testkit.Upstream(t, script), "")
	pass := w.Agent("marit-quill")
	rule := w.Rule("admit", "marit-quill", "radio", "*")
	s := stage{w, t, script, w.Raw("/mcp", pass, "2025-11-25"), pass, rule}
	s.agent.Names()
	require.Empty(t, s.causes("radio/act"))
	return s
}

// causes are what stands in the way of a tool, or of the agent as a whole.
func (s stage) causes(tool string) (out []diagnosis.Cause) {
	s.t.Helper()
	var w apitype.Why
	s.Must("GET", "/api/agents/marit-quill/why?tool="+tool, nil, &w)
	for _, f := range w.Found {
		out = append(out, f.Cause)
		assert.NotEmpty(s.t, f.Remedy, "%s", f.Cause)
		assert.NotEmpty(s.t, f.Title, "%s", f.Cause)
	}
	assert.Equal(s.t, len(w.Found) == 0, w.OK)
	return out
}

func (s stage) passID() string {
	var passes []struct{ ID, State string }
	s.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	for _, p := range passes {
		if p.State == "valid" {
			return p.ID
		}
	}
	return ""
}

func (s stage) revoke() { s.Must("DELETE", "/api/agents/marit-quill/passes/"+s.passID(), nil, nil) }

func (s stage) show(pass string) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), http.MethodPost, s.Base+"/mcp", strings.NewReader("{}"))
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+pass)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	require.NoError(s.t, resp.Body.Close())
	require.Equal(s.t, http.StatusUnauthorized, resp.StatusCode)
}

// Whatever stands between an agent and a tool at the door or in its assistant is named, as
// the first thing.
func TestEveryCauseOfDoorAndAssistant(t *testing.T) {
	t.Parallel()
	budget := obj{"name": "day", "agent": "*", "server": "*", "tool": "*", "per": "agent", "window": "day", "calls": 1}
	for cause, play := range map[diagnosis.Cause]func(s stage) string{
		diagnosis.AgentPaused: func(s stage) string {
			s.Must("PATCH", "/api/agents/marit-quill", obj{"paused": true}, nil)
			assert.Equal(s.t, []diagnosis.Cause{diagnosis.AgentPaused}, s.causes("radio/act"))
			return ""
		},
		diagnosis.PassRevoked: func(s stage) string { s.revoke(); return "" },
		diagnosis.OldPass: func(s stage) string {
			s.revoke()
			s.Pass("marit-quill")
			s.show(s.pass)
			return ""
		},
		diagnosis.ServerPaused: func(s stage) string {
			s.Must("PATCH", "/api/servers/radio", obj{"paused": true}, nil)
			return "radio/act"
		},
		diagnosis.RuleRefuses: func(s stage) string { s.Rule("refuse", "*", "radio", "act"); return "radio/act" },
		diagnosis.NoRule: func(s stage) string {
			s.Must("DELETE", "/api/rules/"+s.rule, nil, nil)
			return "radio/act"
		},
		diagnosis.BudgetSpent: func(s stage) string {
			s.Must("POST", "/api/budgets", budget, nil)
			s.agent.CallTool("radio__act", "x")
			return "radio/act"
		},
		diagnosis.OldList: func(s stage) string {
			s.script.Results["tools/list"] = `{"tools":[{"name":"act","inputSchema":{"type":"object"}},{"name":"rest","inputSchema":{"type":"object"}}]}`
			s.Must("POST", "/api/servers/radio/check", nil, nil)
			require.Eventually(s.t, func() bool { return len(s.causes("")) > 0 }, 20*time.Second, 10*time.Millisecond)
			return ""
		},
		diagnosis.TooManyTools: func(s stage) string {
			var list []string
			for i := range 140 {
				list = append(list, fmt.Sprintf(`{"name":"act_%d","inputSchema":{"type":"object"}}`, i))
			}
			s.script.Results["tools/list"] = `{"tools":[` + strings.Join(list, ",") + `]}`
			s.Must("POST", "/api/servers/radio/check", nil, nil)
			require.Eventually(s.t, func() bool { return len(s.agent.Names()) == 140 }, 20*time.Second, 10*time.Millisecond)
			return ""
		},
		diagnosis.GaveUp: func(s stage) string {
			began := make(chan struct{}, 3)
			s.script.Call = func(c *testkit.ScriptCall) { began <- struct{}{}; c.Cancelled() }
			for i := range 3 {
				ctx, stop := context.WithCancel(s.t.Context())
				r := s.agent.Request(ctx, http.MethodPost,
					fmt.Sprintf(`{"jsonrpc":"2.0","id":%d,"method":"tools/call","params":{"name":"radio__act","arguments":{}}}`, 100+i))
				gone := make(chan struct{})
				go func() {
					defer close(gone)
					if resp, err := http.DefaultClient.Do(r); err == nil {
						_ = resp.Body.Close()
					}
				}()
				<-began
				s.agent.Post(fmt.Sprintf(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":%d}}`, 100+i))
				stop()
				<-gone
			}
			s.Calls(3, "agent=marit-quill&outcome=cancelled")
			return "radio/act"
		},
		diagnosis.ToolError: func(s stage) string {
			s.script.Call = func(c *testkit.ScriptCall) {
				c.Return(`{"content":[{"type":"text","text":"the mast is down"}],"isError":true}`)
			}
			s.agent.CallTool("radio__act", "x")
			s.Calls(1, "agent=marit-quill&outcome=tool-error")
			return "radio/act"
		},
	} {
		t.Run(string(cause), func(t *testing.T) {
			t.Parallel()
			s := set(t)
			tool := play(s)
			got := s.causes(tool)
			require.NotEmpty(t, got)
			assert.Equal(t, cause, got[0], "%v", got)
		})
	}
}

// An agent that never had a pass, and an assistant that never came, are told apart.
func TestAnAgentThatIsNotInYet(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Must("POST", "/api/agents", obj{"name": "marit-quill", "owner": "marit"}, nil)
	s := stage{World: w, t: t}
	assert.Equal(t, []diagnosis.Cause{diagnosis.PassUnknown}, s.causes(""))
	w.Pass("marit-quill")
	assert.Equal(t, []diagnosis.Cause{diagnosis.NeverConnected}, s.causes(""))
}

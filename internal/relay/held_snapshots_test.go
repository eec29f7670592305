package relay_test

import (
	"fmt"
	"runtime"
	"testing"
	"time"
	"weak"

	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
	"bouncer/internal/snapshot"
	"bouncer/internal/testkit"
)

// Neither sessions nor conversations of their own with servers, which last for days, hold
// what was in force when they began.
func TestOldSnapshotsAreLetGo(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "echo")
	w.Agent("marit-quill")
	var old []weak.Pointer[snapshot.Snapshot]
	for i := range 10 {
		agent := w.Able("/mcp", w.Pass("marit-quill"), wire.Rev20251125, `{"sampling":{}}`)
		agent.CallTool("echo__echo", "x")
		agent.CallTool("echo__slow", "x")
		agent.Stateless("tools/call", `"name":"echo__echo","arguments":{}`, "{}")
		old = append(old, weak.Make(w.Svc.Gateway.Snapshot()))
		w.Must("POST", "/api/agents", testkit.Obj{"name": fmt.Sprint("passing-", i)}, nil)
	}
	require.Eventually(t, func() bool {
		runtime.GC()
		held := 0
		for _, s := range old {
			if s.Value() != nil {
				held++
			}
		}
		return held <= 1 // the last may still be asked by something on its way
	}, 30*time.Second, 20*time.Millisecond)
}

package relay_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// What is wrong with a pass is told to whoever shows it, and who was turned away to
// those who run the service.
func TestRefusedAtTheDoorLeavesATrace(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, nil)
	revoked := w.Pass("marit-quill")
	var list []team.Pass
	w.Must("GET", "/api/agents/marit-quill/passes", nil, &list)
	for _, p := range list {
		if p.Hint == revoked[len(revoked)-4:] {
			w.Must("DELETE", "/api/agents/marit-quill/passes/"+p.ID, nil, nil)
		}
	}
	try := func(auth string) string {
		r := &testkit.Raw{T: t, URL: w.Base + "/mcp/echo", Header: map[string][]string{"User-Agent": {"quill/2.1"}}}
		r.Header["Authorization"] = []string{auth}
		if auth == "" {
			delete(r.Header, "Authorization")
			r.Header["Authorization"] = nil
		}
		res, text := r.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
		assert.Equal(t, 401, res.StatusCode, auth)
		return text
	}
	for auth, says := range map[string]string{
		"":                          "show a valid pass",
		"Bearer " + revoked:         "this pass was revoked; its agent's owner makes another one with bouncer agent pass",
		"Bearer bnp_" + pass[10:]:   "not known here",
		pass:                        "the word Bearer is missing",
		"Bearer Bearer " + pass:     "stands there twice",
		"Basic bWFyaXQ6eA==":        "another scheme than Bearer",
		"Bearer ${BOUNCER_PASS}":    "only stands for a pass",
		"Bearer skf-something-else": "no pass of Bouncer",
	} {
		assert.Contains(t, try(auth), says, auth)
	}
	try("Bearer " + revoked)
	var turned []team.TurnedAway
	w.Must("GET", "/api/turned-away", nil, &turned)
	seen := map[string]string{}
	for _, a := range turned {
		seen[a.Cause] = fmt.Sprint(a.Times, " ", a.From, " ", a.Client, " ", a.Agent, " ", a.Server)
	}
	assert.Equal(t, map[string]string{
		"no-pass": "1 127.0.0.1 quill/2.1  echo", "revoked": "2 127.0.0.1 quill/2.1 marit-quill echo", "unknown": "1 127.0.0.1 quill/2.1  echo",
		"scheme-missing": "2 127.0.0.1 quill/2.1  echo", "another-scheme": "1 127.0.0.1 quill/2.1  echo",
		"placeholder": "1 127.0.0.1 quill/2.1  echo", "not-a-pass": "1 127.0.0.1 quill/2.1  echo",
	}, seen)
	for i := range 700 {
		r := &testkit.Raw{T: t, URL: w.Base + "/mcp", Header: map[string][]string{"User-Agent": {fmt.Sprint(i)}, "Authorization": {"x"}}}
		r.Post("{}")
	}
	w.Must("GET", "/api/turned-away", nil, &turned)
	assert.Len(t, turned, 500, "what is remembered is bounded")
	assert.Equal(t, "699", turned[0].Client)
}

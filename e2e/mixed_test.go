package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/gate"
	"bouncer/internal/testkit"
)

// mixed is everything that a team does in an hour, at once.
type mixed struct {
	*soak
	calls, answers atomic.Int64
}

// calling calls in one era, and takes a refusal only where somebody is altering what
// is admitted.
func (m *mixed) calling(pass, name, revision string) {
	agent := m.Raw("/mcp", pass, revision)
	m.again(2, func(n int) {
		text := fmt.Sprint(name, " ", n)
		m.calls.Add(1)
		r := agent.CallTool("echo__echo", text)
		if r.Error == nil && !r.Result.IsError && len(r.Result.Content) == 1 {
			assert.Equal(m.t, text, r.Result.Content[0].Text)
			m.answers.Add(1)
		}
		if n%7 == 0 {
			agent.Names()
		}
	})
}

// stateless does the same in the era without sessions.
func (m *mixed) stateless(pass string) {
	agent := &testkit.Raw{T: m.t, URL: m.Base + "/mcp", Pass: pass, Header: http.Header{}}
	m.again(2, func(n int) {
		text := fmt.Sprint("stateless ", n)
		_, raw := agent.Stateless("tools/call", `"name":"echo__echo","arguments":{"text":"`+text+`"}`, "{}")
		assert.True(m.t, strings.Contains(raw, text) || strings.Contains(raw, `"error"`) || strings.Contains(raw, `"isError":true`), raw)
		agent.Stateless("tools/list", "", "{}")
	})
}

// opening opens sessions with their streams and leaves them again.
func (m *mixed) opening(pass string) {
	m.again(1, func(int) {
		agent := m.Raw("/mcp/echo", pass, "2025-11-25")
		ctx, stop := context.WithTimeout(m.over, 30*time.Millisecond)
		defer stop()
		if res, err := http.DefaultClient.Do(agent.Request(ctx, "GET", "")); err == nil {
			_, _ = io.Copy(io.Discard, res.Body)
			_ = res.Body.Close()
		}
		if res, err := http.DefaultClient.Do(agent.Request(context.Background(), "DELETE", "")); err == nil {
			_ = res.Body.Close()
		}
	})
}

// altering alters everything that can be altered, again and again.
func (m *mixed) altering(other string) {
	do := func(method, path string, in any) { m.Do(m.Token, method, path, in) }
	m.again(1, func(n int) {
		id := m.Rule("refuse", "*", "echo", "fail")
		do("PATCH", "/api/agents/mixed-1", testkit.Obj{"paused": n%2 == 0})
		do("PATCH", "/api/servers/echo", testkit.Obj{"sharing": []string{"auto", "shared", "private"}[n%3]})
		do("PUT", "/api/servers/echo/own", testkit.Obj{"value": token})
		do("PUT", "/api/secrets/echo-token/value", testkit.Obj{"value": token, "overlapHours": n % 3})
		do("DELETE", "/api/servers/echo/own", nil)
		do("DELETE", "/api/rules/"+id, nil)
	})
	m.again(1, func(n int) {
		name := fmt.Sprint("more-", n)
		do("POST", "/api/servers", testkit.Obj{"name": name, "url": other, "token": token})
		do("POST", "/api/servers/"+name+"/check", nil)
		do("PATCH", "/api/servers/"+name, testkit.Obj{"paused": true})
		do("DELETE", "/api/servers/"+name, nil)
		do("DELETE", "/api/secrets/"+name+"-token", nil)
		if n%4 == 0 {
			do("POST", "/api/locker/rotate", nil)
		}
	})
	m.again(1, func(n int) {
		name := fmt.Sprint("guest-", n)
		do("POST", "/api/agents", testkit.Obj{"name": name, "owner": "marit"})
		do("POST", "/api/agents/"+name+"/passes", testkit.Obj{"days": 1})
		do("PATCH", "/api/agents/"+name, testkit.Obj{"owner": ""})
		do("DELETE", "/api/agents/"+name, nil)
		m.Do(m.SignIn("marit", testkit.Password), "DELETE", "/api/session", nil)
	})
}

// token is what the echo servers of the mixed traffic want.
const token = "skf-canary-0123456789"

// Everything at once, with the race detector looking on when the tests run with it.
func TestEverythingAtOnce(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo(token, nil)), token)
	other := testkit.Upstream(t, testkit.Echo(token, nil))
	w.Rule("admit", "*", "*", "*")
	over, stop := context.WithCancel(t.Context())
	defer stop()
	m := &mixed{soak: &soak{World: w, t: t, over: over}}
	for i, revision := range []string{"2024-11-05", "2025-03-26", "2025-06-18", "2025-11-25"} {
		m.calling(w.Agent(fmt.Sprint("mixed-", i)), fmt.Sprint("mixed-", i), revision)
	}
	m.stateless(w.Agent("stateless"))
	m.opening(w.Agent("opening"))
	login := w.SignIn("marit", testkit.Password)
	m.again(1, func(int) {
		stream := &testkit.Raw{T: t, URL: w.Base + "/api/events", Pass: login}
		ctx, end := context.WithTimeout(m.over, 300*time.Millisecond)
		defer end()
		if res, err := http.DefaultClient.Do(stream.Request(ctx, "GET", "")); err == nil {
			_, _ = io.Copy(io.Discard, res.Body)
			_ = res.Body.Close()
		}
		w.Do(login, "GET", "/api/agents/mixed-0/reach", nil)
		w.Do(login, "GET", "/api/calls?text=mixed", nil)
	})
	mine := w.Token
	w.Token = w.SignIn("marit", testkit.Password)
	m.altering(other)
	began := time.Now()
	assert.Eventually(t, func() bool { return time.Since(began) > soakFor(t) && m.answers.Load() > 0 }, soakFor(t)+2*time.Minute, 50*time.Millisecond)
	stop()
	m.wait.Wait()
	w.Token = mine

	assert.Greater(t, m.answers.Load(), m.calls.Load()/4, "most calls were answered while everything was altered")
	var state team.JournalState
	w.Must("GET", "/api/journal", nil, &state)
	assert.Zero(t, state.Lost)
	var usage []gate.Usage
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/limits", nil, &usage)
		for _, u := range usage {
			if u.What == "calls under way" {
				return u.Now == 0
			}
		}
		return false
	}, 30*time.Second, 20*time.Millisecond, "every call gave back what it held")
	for _, u := range usage {
		assert.LessOrEqual(t, u.Most, u.Limit, u.What)
	}
	assert.NotContains(t, w.Log.String(), token)
}

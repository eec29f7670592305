package registry_test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/app"
	"bouncer/internal/core/team"
	"bouncer/internal/events"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/testkit"
	"bouncer/standin/toolserver"
)

const token = "skf-canary-0123456789"

// What was in force before a restart is in force after it, at once.
func TestRegisterSurvivesARestart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	flags := map[string]string{"data": dir}
	w := testkit.Start(t, flags)
	s := testkit.Echo(token, nil)
	w.Register("echo", testkit.Upstream(t, s), token)
	w.Rule("admit", "*", "*", "echo")
	pass := w.Agent("marit-quill")
	w.Raw("/mcp", pass, "2025-11-25").CallTool("echo__echo", "before")
	w.Stop()

	s.Fail(toolserver.Maintenance)
	w = testkit.Start(t, flags)
	agent := w.Raw("/mcp", pass, "2025-11-25")
	assert.Equal(t, []string{"echo__echo"}, agent.Names(), "the recorded tools are offered while the server is down")
	assert.Contains(t, agent.CallTool("echo__echo", "x").Error.Message, "maintenance")
	s.Fail(toolserver.Healthy)
	require.Eventually(
		t,
		func() bool { return len(agent.CallTool("echo__echo", "x").Result.Content) == 1 },
		30*time.Second,
		100*time.Millisecond,
		"the sealed token opens again",
	)
	var agents []team.Agent
	w.Must("GET", "/api/agents", nil, &agents)
	require.NotNil(t, agents[0].Seen)
	assert.WithinDuration(t, time.Now(), *agents[0].Seen, time.Minute, "and when the agent was seen is known at once")
	w.Stop()

	require.NoError(t, os.Rename(filepath.Join(dir, "locker.keys"), filepath.Join(dir, "elsewhere")))
	settings, err := app.LoadSettings(map[string]string{"data": dir, "listen": "127.0.0.1:0"}, func(string) string { return "" }, "")
	require.NoError(t, err)
	_, err = app.Start(context.Background(), settings, &testkit.Log{})
	require.ErrorContains(t, err, "key set of the locker cannot be read")
	settings.Keys = filepath.Join(dir, "elsewhere")
	svc, err := app.Start(context.Background(), settings, &testkit.Log{})
	require.NoError(t, err)
	svc.Stop(context.Background())
}

// Many alterations at a time: none is lost, and the world that is in force at
// the end has them all.
func TestAlterationsAtTheSameTime(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	s := testkit.Echo("", nil)
	up := testkit.Upstream(t, s)
	w.Register("echo", up, "")
	pass := w.Agent("marit-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	var wait sync.WaitGroup
	for i := range 6 {
		wait.Go(func() { w.Rule("admit", fmt.Sprintf("agent-%d", i), "*", "*") })
		wait.Go(func() { w.Agent(fmt.Sprintf("agent-%d", i)) })
		wait.Go(func() { w.Register(fmt.Sprintf("echo-%d", i), up, "") })
		wait.Go(func() { agent.Names() })
	}
	wait.Go(func() { w.Rule("admit", "marit-*", "*", "echo") })
	// Of several at once with one name, one wins and the others are told.
	taken := make(chan int, 4)
	for range 4 {
		wait.Go(func() {
			status, _ := w.Do(w.Token, "POST", "/api/servers", testkit.Obj{"name": "twin", "url": up})
			taken <- status
		})
	}
	wait.Wait()
	counts := map[int]int{}
	for range 4 {
		counts[<-taken]++
	}
	assert.Equal(t, map[int]int{201: 1, 409: 3}, counts)
	assert.Len(t, agent.Names(), 8, "one tool each of echo, echo-0 to echo-5 and twin")
	var changes []team.Change
	w.Must("GET", "/api/changes", nil, &changes)
	verbs := map[string]int{}
	for _, c := range changes {
		verbs[c.What]++
	}
	assert.Equal(t, 7, verbs["rule.add"])
	assert.Equal(t, 8, verbs["server.register"])
	assert.Equal(t, 7, verbs["agent.add"])
}

// A secret that was exchanged is given to its servers from the next call on.
func TestRotationReachesTheServersAtOnce(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	s := testkit.Echo(token, nil)
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "shared", "value": "Bearer " + token}, nil)
	up := testkit.Upstream(t, s)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "one", "url": up, "secret": "shared"}, nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "two", "url": up, "secret": "shared"}, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	s.Token = "skf-the-next-token"
	assert.Contains(t, agent.CallTool("one__echo", "x").Error.Message, "rejected the registered token")
	assert.Equal(t, 502, w.Problem("PUT", "/api/secrets/shared/value", testkit.Obj{"value": "skf-not-it-either"}).Status)
	w.Must("PUT", "/api/secrets/shared/value", testkit.Obj{"value": "skf-the-next-token"}, nil)
	for _, name := range []string{"one", "two"} {
		r := agent.CallTool(name+"__echo", "x")
		require.Len(t, r.Result.Content, 1, name)
	}
	p := w.Problem("DELETE", "/api/secrets/shared", nil)
	assert.Contains(t, p.Title, "[one two]")
	w.Must("PATCH", "/api/servers/one", testkit.Obj{"url": up + "/"}, nil)
	assert.Equal(
		t,
		502,
		w.Problem("PATCH", "/api/servers/one", testkit.Obj{"url": "http://127.0.0.1:1/mcp"}).Status,
		"an address that does not work is not taken over",
	)
	var info team.Server
	w.Must("GET", "/api/servers/one", nil, &info)
	assert.Equal(t, up+"/", info.URL)
}

// Whoever alters what somebody else has altered since is told, and undoes nothing.
func TestNoAlterationIsUndoneUnseen(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	began, goOn := make(chan struct{}), make(chan struct{})
	slow := testkit.Echo("", nil)
	var once sync.Once
	front := http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		once.Do(func() { close(began); <-goOn })
		slow.ServeHTTP(rw, r)
	})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	moved := make(chan int)
	go func() {
		status, _ := w.Do(w.Token, "PATCH", "/api/servers/echo", testkit.Obj{"url": testkit.Upstream(t, front)})
		moved <- status
	}()
	<-began // it was read, and is being tried
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"paused": true}, nil)
	close(goOn)
	assert.Equal(t, 409, <-moved, "the second writer is told")
	var s team.Server
	w.Must("GET", "/api/servers/echo", nil, &s)
	assert.True(t, s.Paused, "what was altered meanwhile stays")

	p := w.Problem("PATCH", "/api/servers/echo", testkit.Obj{"paused": false, "version": s.Version - 1})
	assert.Equal(t, 409, p.Status)
	assert.Equal(t, "version", p.Field)
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"paused": false, "version": s.Version}, nil)
	w.Agent("marit-quill")
	assert.Equal(t, 409, w.Problem("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true, "version": 7}).Status)
	assert.Equal(t, 409, w.Problem("PATCH", "/api/people/marit", testkit.Obj{"fullName": "M. Aune", "version": 0}).Status)
}

// A value that a command supplies holds up nobody but those who need it.
func TestASlowCommandDelaysNoRevocation(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	gate := filepath.Join(t.TempDir(), "gate")
	script := filepath.Join(t.TempDir(), "token.sh")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\nwhile [ -e "+gate+" ]; do :; done\necho skf-slow-token\n"), 0o700))
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "slow", "source": "command " + script}, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "echo", "*")
	pass := w.Agent("marit-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	require.NoError(t, os.WriteFile(gate, nil, 0o600))
	held := make(chan struct{})
	go func() {
		defer close(held)
		_, _ = w.Do(w.Token, "POST", "/api/servers", testkit.Obj{"name": "other", "url": testkit.Upstream(t, testkit.Echo("skf-slow-token", nil)), "secret": "slow"})
	}()
	began := time.Now()
	var passes []team.Pass
	w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	w.Must("DELETE", "/api/agents/marit-quill/passes/"+passes[0].ID, nil, nil)
	res, _ := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
	assert.Equal(t, 401, res.StatusCode, "the very next request is refused")
	assert.Less(t, time.Since(began), 5*time.Second)
	require.NoError(t, os.Remove(gate))
	<-held
}

// What is kept and cannot be put in force is told as that, and not as lost.
func TestWhatIsKeptButNotInForceIsToldSo(t *testing.T) {
	t.Parallel()
	kept, err := store.Open(context.Background(), filepath.Join(t.TempDir(), "bouncer.db"), store.Options{})
	require.NoError(t, err)
	require.NoError(t, kept.Close())
	r := registry.New(registry.Options{Store: kept, Events: events.New()})
	require.Error(t, r.Start())
	var late *registry.NotInForceError
	require.ErrorAs(t, r.Refresh(), &late)
	assert.NotEmpty(t, late.Err)
}

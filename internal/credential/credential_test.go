package credential_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/app"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/loopback"
	"bouncer/standin/toolserver"
)

// gate is a tool server that takes several tokens and notes what it was shown.
type gate struct {
	mu     sync.Mutex
	takes  map[string]string // who shows what
	header string            // "" for Authorization
	seen   []http.Header
	call   http.Header // of the last call of a tool
	query  []string
	next   http.Handler
}

func newGate(t *testing.T, takes map[string]string) (*gate, string) {
	g := &gate{
		takes: takes,
		next: toolserver.New(
			"gate",
			"1",
			"",
			toolserver.Tool{
				Name:        "enter",
				Description: "Enters.",
				Schema:      `{"type":"object"}`,
				Run:         func(context.Context, *toolserver.Call) (any, error) { return "in", nil },
			},
		),
	}
	s := httptest.NewServer(g)
	t.Cleanup(func() { loopback.End(s) })
	return g, s.URL + "/mcp"
}

func (g *gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(body))
	g.mu.Lock()
	if bytes.Contains(body, []byte(`"tools/call"`)) {
		g.call = r.Header.Clone()
	}
	g.seen, g.query = append(g.seen, r.Header.Clone()), append(g.query, r.URL.RawQuery)
	shown := r.Header.Get("Authorization")
	if g.header != "" {
		shown = r.Header.Get(g.header)
	}
	who, ok := g.takes[shown]
	g.mu.Unlock()
	if !ok {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		http.Error(w, "no", http.StatusUnauthorized)
		return
	}
	r.Header.Set("X-Who", who)
	g.next.ServeHTTP(w, r)
}

// called is what the last call of a tool was sent with; what is said beside it,
// such as the end of a session, does not count.
func (g *gate) called() http.Header {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.call
}

// last is what was shown last.
func (g *gate) last() http.Header {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.seen[len(g.seen)-1]
}

// asked is the query of the last request.
func (g *gate) asked() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.query[len(g.query)-1]
}

func (g *gate) take(takes map[string]string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.takes = takes
}

// The most specific credential wins: an agent's, its owner's, the team's.
func TestTheMostSpecificCredentialWins(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	g, up := newGate(
		t,
		map[string]string{"Bearer skf-team-token": "team", "Bearer skf-marit-token": "marit", "Bearer skf-voice-token": "voice"},
	)
	w.Register("gate", up, "skf-team-token")
	w.Rule("admit", "*", "*", "*")
	quill := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	parlour := w.Raw("/mcp", w.Agent("marit-parlour"), "2025-11-25")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "quay-voice"}, nil)
	voice := w.Raw("/mcp", w.Pass("quay-voice"), "2025-11-25")
	shown := func(agent *testkit.Raw) string {
		agent.CallTool("gate__enter", "")
		return strings.TrimPrefix(g.called().Get("Authorization"), "Bearer skf-")
	}
	assert.Equal(t, "team-token team-token team-token", shown(quill)+" "+shown(parlour)+" "+shown(voice))
	assert.Equal(t, 502, w.Problem("PUT", "/api/servers/gate/own", testkit.Obj{"value": "skf-wrong-token"}).Status, "it is tried first")
	w.Must("PUT", "/api/servers/gate/own", testkit.Obj{"value": "Bearer skf-marit-token"}, nil)
	assert.Equal(t, "marit-token marit-token team-token", shown(quill)+" "+shown(parlour)+" "+shown(voice), "both of hers, not the team's")
	w.Must("PUT", "/api/servers/gate/own", testkit.Obj{"agent": "marit-parlour", "value": "skf-voice-token"}, nil)
	assert.Equal(t, "marit-token voice-token team-token", shown(quill)+" "+shown(parlour)+" "+shown(voice))
	w.Must("DELETE", "/api/servers/gate/own?agent=marit-parlour", nil, nil)
	w.Must("DELETE", "/api/servers/gate/own", nil, nil)
	assert.Equal(t, "team-token team-token team-token", shown(quill)+" "+shown(parlour)+" "+shown(voice))

	// Where everybody uses their own, nobody borrows.
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-quill", "owner": "ottilie"}, nil)
	hers := w.Raw("/mcp", w.PassAs(ottilie, "ottilie-quill"), "2025-11-25")
	w.Must("POST", "/api/servers", testkit.Obj{"name": "own", "url": up, "per": "person", "token": "skf-marit-token"}, nil)
	r := quill.CallTool("own__enter", "")
	assert.NotContains(t, fmt.Sprint(r.Result.Content), "connect", "the registrar's own token was given with it")
	r = hers.CallTool("own__enter", "")
	assert.Contains(t, r.Result.Content[0].Text, "Ottilie Brandt has stored no token for it yet")
	assert.Contains(t, r.Result.Content[0].Text, w.Base+"/connect/own")
	assert.Contains(t, voice.CallTool("own__enter", "").Result.Content[0].Text, "agent quay-voice, which has to have its own")
	w.MustAs(ottilie, "PUT", "/api/servers/own/own", testkit.Obj{"value": "skf-voice-token"}, nil)
	hers.CallTool("own__enter", "")
	assert.Equal(t, "Bearer skf-voice-token", g.called().Get("Authorization"))
	var list []team.Secret
	w.MustAs(ottilie, "GET", "/api/secrets", nil, &list)
	require.Len(t, list, 1, "members see their own")
	assert.Equal(t, "own:ottilie ottilie", list[0].Name+" "+list[0].Owner)
	status, _ := w.Do(ottilie, "PUT", "/api/secrets/gate-token/value", testkit.Obj{"value": "skf-taken-over"})
	assert.Equal(t, 404, status)
	status, _ = w.Do(ottilie, "PUT", "/api/servers/gate/own", testkit.Obj{"secret": "gate-token"})
	assert.Equal(t, 422, status, "a member cannot send the team's token anywhere")
	for _, in := range []testkit.Obj{{"secret": "own:ottilie"}, {"places": []testkit.Obj{{"how": "header", "name": "X-Key", "secret": "own:ottilie"}}}} {
		in["name"], in["url"] = "trap", up
		assert.Contains(t, w.Problem("POST", "/api/servers", in).Title, "ottilie's own", "nor can an admin send hers")
	}
	_, elsewhere := newGate(t, map[string]string{"Bearer skf-voice-token": "x"})
	w.Must("PATCH", "/api/servers/own", testkit.Obj{"url": elsewhere, "anyway": true}, nil)
	assert.Contains(
		t,
		hers.CallTool("own__enter", "").Result.Content[0].Text,
		"has stored no token",
		"what she gave for one address is not sent to another",
	)
}

// Every kind of secret reaches the place it is for.
func TestSecretsGoWhereTheyAreFor(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	g, up := newGate(t, map[string]string{"Basic ZGlzcGF0Y2g6aGFyYm91cg==": "x"})
	add := func(name, kind, value string) {
		w.Must("POST", "/api/secrets", testkit.Obj{"name": name, "kind": kind, "value": value}, nil)
	}
	add("login", "basic", "dispatch:harbour")
	add("team-key", "value", "skf-team-key")
	add("param", "value", "skf-in-the-query")
	w.Must("POST", "/api/servers", testkit.Obj{"name": "gate", "url": up, "secret": "login", "places": []testkit.Obj{
		{"how": "header", "name": "X-Team", "scheme": "Key", "secret": "team-key"}, {"how": "query", "name": "k", "secret": "param"},
	}}, nil)
	assert.Equal(t, "Key skf-team-key", g.last().Get("X-Team"))
	assert.Equal(t, "k=skf-in-the-query", g.asked())
	var list []team.Secret
	w.Must("GET", "/api/secrets", nil, &list)
	for _, s := range list {
		assert.Equal(t, []string{"gate"}, s.UsedBy, s.Name)
		assert.NotNil(t, s.Used, s.Name)
		assert.Equal(t, 409, w.Problem("DELETE", "/api/secrets/"+s.Name, nil).Status)
	}
	for field, in := range map[string]testkit.Obj{
		"places": {"places": []testkit.Obj{{"how": "variable", "name": "X", "secret": "param"}}}, "per": {"per": "everybody"},
		"signIn.grant": {"signIn": testkit.Obj{"grant": "magic"}}, "signIn.clientId": {"signIn": testkit.Obj{"grant": "client"}}, "signIn.issuer": {"signIn": testkit.Obj{"grant": "code", "issuer": "http://as.example"}},
	} {
		in["name"], in["url"] = "other", up
		assert.Equal(t, field, w.Problem("POST", "/api/servers", in).Field)
	}
	assert.Equal(
		t,
		404,
		w.Problem(
			"POST",
			"/api/servers",
			testkit.Obj{"name": "other", "url": up, "places": []testkit.Obj{{"how": "query", "name": "k", "secret": "nobody"}}},
		).Status,
	)

	// A process gets variables, and files that only it can read.
	script := filepath.Join(t.TempDir(), "server.sh")
	told := filepath.Join(t.TempDir(), "told")
	require.NoError(t, os.WriteFile(script, []byte(`#!/bin/sh
echo "$HARBOUR_KEY $KEY_FILE $(cat "$KEY_FILE") $(stat -c %a "$KEY_FILE")" > `+told+`
while read line; do
  id=$(printf %s "$line" | sed -n 's/.*"id":\([0-9]*\).*/\1/p')
  case "$line" in
  *initialize\"*) echo '{"jsonrpc":"2.0","id":'$id',"result":{"protocolVersion":"2025-11-25","capabilities":{"tools":{}},"serverInfo":{"name":"sh","version":"1"}}}' ;;
  *tools/list*) echo '{"jsonrpc":"2.0","id":'$id',"result":{"tools":[]}}' ;;
  esac
done
`), 0o700))
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{
			"name":    "sh",
			"command": script,
			"places": []testkit.Obj{
				{"how": "variable", "name": "HARBOUR_KEY", "secret": "team-key"},
				{"how": "file", "name": "KEY_FILE", "secret": "param"},
			},
		},
		nil,
	)
	raw, err := os.ReadFile(told)
	require.NoError(t, err)
	parts := strings.Fields(string(raw))
	require.Len(t, parts, 4, "%s", raw)
	assert.Equal(t, "skf-team-key skf-in-the-query 600", parts[0]+" "+parts[2]+" "+parts[3])
	w.Must("DELETE", "/api/servers/sh", nil, nil)
	require.Eventually(
		t,
		func() bool { _, err := os.Stat(parts[1]); return os.IsNotExist(err) },
		30*time.Second,
		50*time.Millisecond,
		"the file goes with the process",
	)
}

// A value that is kept elsewhere is read when it is used, and again when it is
// refused; of a rotated one the value before helps out for a while.
func TestValuesThatChange(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	g, up := newGate(t, map[string]string{"Bearer skf-first-value": "x"})
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte("skf-first-value\n"), 0o600))
	joss := w.Person("joss", "Joss Penhale", team.Maintainer)
	status, _ := w.Do(joss, "POST", "/api/secrets", testkit.Obj{"name": "outside", "source": "file /etc/passwd"})
	assert.Equal(t, 422, status, "what the service can read is an admin's business")
	assert.Equal(t, "source", w.Problem("POST", "/api/secrets", testkit.Obj{"name": "outside", "source": "file /not/there"}).Field)
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "outside", "source": "file " + file}, nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "gate", "url": up, "secret": "outside"}, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	enter := func() string {
		_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"gate__enter"}}`)
		return text
	}
	enter()
	require.NoError(t, os.WriteFile(file, []byte("Bearer skf-second-value"), 0o600))
	g.take(map[string]string{"Bearer skf-second-value": "x"})
	w.Clock.Forward(1100 * time.Millisecond)
	assert.NotContains(t, enter(), "rejected")
	assert.Equal(t, "Bearer skf-second-value", g.called().Get("Authorization"), "the new value was read when the old one was refused")
	raw, err := os.ReadFile(filepath.Join(w.Dir, "bouncer.db"))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "skf-second-value")

	// Rotation with overlap.
	g.take(map[string]string{"Bearer skf-old-token-1": "x", "Bearer skf-new-token-2": "x"})
	w.Must("POST", "/api/servers", testkit.Obj{"name": "two", "url": up, "token": "skf-old-token-1"}, nil)
	assert.Equal(
		t,
		"overlapHours",
		w.Problem("PUT", "/api/secrets/two-token/value", testkit.Obj{"value": "skf-new-token-2", "overlapHours": 9999}).Field,
	)
	var s team.Secret
	w.Must("PUT", "/api/secrets/two-token/value", testkit.Obj{"value": "skf-new-token-2", "overlapHours": 1}, &s)
	require.NotNil(t, s.Overlap)
	require.Eventually(
		t,
		func() bool { return g.last().Get("Authorization") == "Bearer skf-new-token-2" },
		30*time.Second,
		20*time.Millisecond,
	)
	g.take(map[string]string{"Bearer skf-old-token-1": "x"}) // half of the far side does not know the new one
	_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"two__enter"}}`)
	assert.NotContains(t, text, "rejected", "the value before is still tried")
	assert.NotContains(t, w.Log.String(), "skf-old-token-1")
}

// New keys of the locker, a backup, and a restart with both: everything opens,
// and nothing of it can be read without the keys.
func TestKeysAndBackups(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	g, up := newGate(t, map[string]string{"Bearer skf-canary-token": "x"})
	w.Must("POST", "/api/servers", testkit.Obj{"name": "gate", "url": up, "token": "skf-canary-token"}, nil)
	status, before := w.Do(w.Token, "GET", "/api/backup", nil)
	require.Equal(t, 200, status)
	var k struct {
		Keys      []string
		Rewrapped int
	}
	w.Must("POST", "/api/locker/rotate", nil, &k)
	assert.Equal(t, 1, k.Rewrapped)
	require.Len(t, k.Keys, 2)
	_, after := w.Do(w.Token, "GET", "/api/backup", nil)
	keys := filepath.Join(w.Dir, "locker.keys")
	w.Stop()
	for name, raw := range map[string][]byte{"before": before, "after": after} {
		assert.NotContains(t, string(raw), "skf-canary-token")
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "bouncer.db"), raw, 0o600))
		g.mu.Lock()
		seen := len(g.seen)
		g.mu.Unlock()
		again := testkit.Start(t, map[string]string{"data": dir, "keys": keys})
		require.Eventually(
			t,
			func() bool { g.mu.Lock(); defer g.mu.Unlock(); return len(g.seen) > seen },
			30*time.Second,
			20*time.Millisecond,
		)
		assert.Equal(t, "Bearer skf-canary-token", g.last().Get("Authorization"), "the backup from %s the rotation", name)
		again.Stop()
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bouncer.db"), after, 0o600))
	s, err := app.LoadSettings(map[string]string{"data": dir, "listen": "127.0.0.1:0"}, func(string) string { return "" }, "")
	require.NoError(t, err)
	_, err = app.Start(t.Context(), s, &testkit.Log{})
	assert.ErrorContains(t, err, "key set", "without the keys a backup is of no use to anybody")
}

// A token that tells its end is warned about before, and explained after.
func TestEndsAreKnown(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	jwt := func(in time.Duration) string {
		return fmt.Sprintf(
			"eyJhbGciOiJub25lIn0.%s.c2lnbmF0dXJl",
			base64.RawURLEncoding.EncodeToString(
				[]byte(fmt.Sprintf(`{"iss":"https://customs.skerrow.example","exp":%d}`, time.Now().Add(in).Unix())),
			),
		)
	}
	var s team.Secret
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "soon", "value": jwt(5 * 24 * time.Hour)}, &s)
	assert.Contains(t, s.Warning, "it ends in")
	assert.Equal(t, "https://customs.skerrow.example", s.Facts.Issuer)
	s = team.Secret{}
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "later", "value": jwt(100 * 24 * time.Hour)}, &s)
	assert.Empty(t, s.Warning)
	_, up := newGate(t, nil)
	var info struct{ Health team.Health }
	w.Must("POST", "/api/servers", testkit.Obj{"name": "customs", "url": up, "token": jwt(-time.Hour), "anyway": true}, &info)
	assert.Equal(t, "auth.token-expired", string(info.Health.Finding.Cause))
	assert.Contains(t, info.Health.Finding.Message, "ended on")
	var seen struct {
		Problem string
		Facts   team.Facts
	}
	w.Must("POST", "/api/secrets/inspect", testkit.Obj{"value": "<token>"}, &seen)
	assert.Contains(t, seen.Problem, "placeholder")
	w.Must("POST", "/api/secrets/inspect", testkit.Obj{"value": `TOKEN="Bearer skf-abc-123"`}, &seen)
	assert.Len(t, seen.Facts.Notes, 3)
}

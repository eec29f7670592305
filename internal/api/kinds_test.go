package api_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
	"bouncer/standin/toolserver"
)

// A REST API: its operations are listed, some become tools, and another pick
// reaches the sessions that are open at once.
func TestRESTAPIsAreRegisteredByTheirDocument(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	const key = "skf-canary-0123456789"
	base := strings.TrimSuffix(testkit.Upstream(t, lostproperty.New(key)), "/mcp")
	var doc serverspec.DocumentInfo
	w.Must("POST", "/api/documents", testkit.Obj{"documentURL": base + "/openapi.yaml"}, &doc)
	assert.Equal(t, "Lost property 2.4.0", doc.Title+" "+doc.Version)
	require.Len(t, doc.Operations, 5)
	assert.Equal(t, "header X-Api-Key", doc.Schemes[0].Kind+" "+doc.Schemes[0].In)
	in := testkit.Obj{"name": "lost", "url": base + "/v2", "document": lostproperty.Document, "token": key}
	p := w.Problem("POST", "/api/servers", in)
	assert.Equal(t, "operations", p.Field)
	_, raw := w.Do(w.Token, "POST", "/api/servers", in)
	assert.Contains(t, string(raw), `"id":"searchItems"`, "what can be picked is told")
	in["operations"] = []testkit.Obj{{"id": "searchItems", "name": "search"}}
	var s apitype.ServerInfo
	w.Must("POST", "/api/servers", in, &s)
	assert.Equal(t, "rest X-Api-Key ready 1", strings.Join([]string{s.Transport, s.SecretHeader, s.Health.State, "1"}, " "))
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	events := agent.Listen(t.Context())
	assert.Equal(t, []string{"lost__search"}, agent.Names())
	r := agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"lost__search","arguments":{"text":"raincoat"}}}`)
	assert.Contains(t, r.Result.Content[0].Text, "LP-0002")

	w.Must(
		"PATCH",
		"/api/servers/lost",
		testkit.Obj{"operations": []testkit.Obj{{"id": "searchItems", "name": "search"}, {"id": "logItem"}}},
		nil,
	)
	assert.Contains(t, testkit.Next(t, events), "list_changed")
	assert.Equal(t, []string{"lost__logItem", "lost__search"}, agent.Names())
	w.Must("GET", "/api/servers/lost/operations", nil, &doc)
	picked := map[string]string{}
	for _, o := range doc.Operations {
		if o.Picked {
			picked[o.ID] = o.Tool
		}
	}
	assert.Equal(t, map[string]string{"searchItems": "search", "logItem": "logItem"}, picked)
	for name, row := range map[string]struct {
		in    testkit.Obj
		field string
	}{
		"an unknown operation":       {testkit.Obj{"operations": []testkit.Obj{{"id": "nothing"}}}, "operations"},
		"one that cannot be a tool":  {testkit.Obj{"operations": []testkit.Obj{{"id": "putPhoto"}}}, "operations"},
		"a name that no tool has":    {testkit.Obj{"operations": []testkit.Obj{{"id": "logItem", "name": "a b"}}}, "operations"},
		"no operation at all":        {testkit.Obj{"operations": []testkit.Obj{}}, "operations"},
		"a document that is none":    {testkit.Obj{"document": "hello: world"}, "document"},
		"a way of sharing that none": {testkit.Obj{"sharing": "sometimes"}, "sharing"},
	} {
		assert.Equal(t, row.field, w.Problem("PATCH", "/api/servers/lost", row.in).Field, name)
	}
	w.Must("GET", "/api/servers/lost", nil, &s)
	assert.Len(t, s.Operations, 2, "what was refused altered nothing")
	_, raw = w.Do(w.Token, "GET", "/api/servers/lost", nil)
	assert.NotContains(t, string(raw), key)
	assert.Equal(t, 404, w.Problem("GET", "/api/servers/none/operations", nil).Status)
	p = w.Problem("POST", "/api/documents", testkit.Obj{"document": "openapi: 3.1.0\npaths:\n  items: {get: {}}\n"})
	assert.Equal(t, "document", p.Field)
	assert.Contains(t, p.Title, "line 3, column 3")
	assert.Equal(t, "documentURL", w.Problem("POST", "/api/documents", testkit.Obj{"documentURL": base + "/nothing.yaml"}).Field)
	assert.Equal(t, "documentURL", w.Problem("POST", "/api/documents", testkit.Obj{"documentURL": "file:///etc/passwd"}).Field)
}

func TestTheTransportOfAnAddressIsFoundOut(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	var s apitype.ServerInfo
	sse := strings.TrimSuffix(testkit.Upstream(t, ferries.Tannoy("skf-canary-0123456789").Legacy()), "/mcp") + "/sse"
	w.Must("POST", "/api/servers", testkit.Obj{"name": "tannoy", "url": sse, "token": "skf-canary-0123456789"}, &s)
	assert.Equal(t, "sse 2024-11-05", s.Transport+" "+s.Health.Revision)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "tides", "url": testkit.Upstream(t, ferries.Tides().Stateless())}, &s)
	assert.Equal(t, "streamable-http 2026-07-28", s.Transport+" "+s.Health.Revision)
	assert.Equal(t, []int{1, 1, 2}, []int{s.Health.Tools, s.Health.Prompts, s.Health.Resources})
	p := w.Problem(
		"POST",
		"/api/servers",
		testkit.Obj{"name": "forced", "url": sse, "token": "skf-canary-0123456789", "transport": "streamable-http"},
	)
	assert.Equal(t, "transport.speaks-only-legacy-sse", p.Code)
	assert.Equal(t, "transport", w.Problem("POST", "/api/servers", testkit.Obj{"name": "x", "url": sse, "transport": "pigeon"}).Field)
}

func TestEditionsTellWhatChanged(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	tool := func(name, about string) toolserver.Tool {
		return toolserver.Tool{Name: name, Description: about, Schema: `{"type":"object"}`}
	}
	s := toolserver.New("s", "1", "", tool("a", "x"), tool("b", "x"))
	w.Register("s", testkit.Upstream(t, s), "")
	var list []team.Edition
	require.Eventually(t, func() bool {
		s.SetTools(tool("b", "something else"), tool("c", "x"))
		w.Must("GET", "/api/servers/s/editions", nil, &list)
		return len(list) == 2
	}, 30*time.Second, 50*time.Millisecond)
	assert.Equal(t, [][]string{{"c"}, {"a"}, {"b"}}, [][]string{list[0].Added, list[0].Removed, list[0].Changed})
	assert.Equal(t, []string{"a", "b"}, list[1].Added)
	assert.Equal(t, 2, list[1].Tools)
	assert.NotEqual(t, list[0].Digest, list[1].Digest)
	assert.Equal(t, 404, w.Problem("GET", "/api/servers/nobody/editions", nil).Status)
}

func pair(t *testing.T) (cert, key string) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.CreateCertificate(
		rand.Reader,
		&x509.Certificate{SerialNumber: big.NewInt(1)},
		&x509.Certificate{SerialNumber: big.NewInt(1)},
		&k.PublicKey,
		k,
	)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	return string(
			pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		), string(
			pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}),
		)
}

// What few servers need: headers, a header for the token, certificates, limits.
func TestSettingsThatFewServersNeed(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	echo := testkit.Echo("", nil)
	var seen atomic.Pointer[http.Request]
	url := testkit.Upstream(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			seen.Store(r.Clone(r.Context()))
		}
		echo.ServeHTTP(rw, r)
	}))
	cert, key := pair(t)
	_, other := pair(t)
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "key", "kind": "private-key", "value": key}, nil)
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "other", "kind": "private-key", "value": other}, nil)
	var s apitype.ServerInfo
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{
			"name":         "s",
			"url":          url,
			"token":        "skf-canary-0123456789",
			"secretHeader": "X-Api-Key",
			"headers":      []string{"X-Team: harbour"},
			"ca":           cert,
			"clientCert":   cert,
			"clientKey":    "key",
			"sharing":      "private",
		},
		&s,
	)
	assert.Equal(t, "skf-canary-0123456789 harbour", seen.Load().Header.Get("X-Api-Key")+" "+seen.Load().Header.Get("X-Team"))
	assert.Empty(t, seen.Load().Header.Get("Authorization"))
	assert.Equal(t, "private", s.Sharing)
	_, raw := w.Do(w.Token, "GET", "/api/servers/s", nil)
	assert.NotContains(t, string(raw), "PRIVATE KEY")
	assert.Equal(t, 409, w.Problem("DELETE", "/api/secrets/key", nil).Status, "a key in use stays")
	for name, row := range map[string]struct {
		in    testkit.Obj
		field string
	}{
		"a header of the protocol":       {testkit.Obj{"headers": []string{"Mcp-Session-Id: x"}}, "headers"},
		"a credential in a header":       {testkit.Obj{"headers": []string{"Authorization: Bearer x"}}, "headers"},
		"a header without a colon":       {testkit.Obj{"headers": []string{"X"}}, "headers"},
		"a header of two lines":          {testkit.Obj{"headers": []string{"X: a\nY: b"}}, "headers"},
		"a header name with a blank":     {testkit.Obj{"secretHeader": "X Key"}, "secretHeader"},
		"an authority that is none":      {testkit.Obj{"ca": "hello"}, "ca"},
		"a certificate without key":      {testkit.Obj{"clientCert": cert}, "clientKey"},
		"a key of another certificate":   {testkit.Obj{"clientCert": cert, "clientKey": "other"}, "clientCert"},
		"limits for an address":          {testkit.Obj{"memoryMiB": 5}, "memoryMiB"},
		"headers for a command":          {testkit.Obj{"url": "", "command": "cat", "headers": []string{"X: y"}}, "headers"},
		"a negative limit":               {testkit.Obj{"url": "", "command": "cat", "memoryMiB": -1}, "memoryMiB"},
		"too few files":                  {testkit.Obj{"url": "", "command": "cat", "openFiles": 3}, "openFiles"},
		"operations without document":    {testkit.Obj{"operations": []testkit.Obj{{"id": "x"}}}, "operations"},
		"a query parameter for an MCP":   {testkit.Obj{"secretQuery": "key"}, "secretQuery"},
		"a document without any address": {testkit.Obj{"url": "", "document": "openapi: 3.1.0\npaths: {/x: {get: {}}}"}, "url"},
	} {
		in := testkit.Obj{"name": "bad", "url": url}
		for k, v := range row.in {
			in[k] = v
		}
		assert.Equal(t, row.field, w.Problem("POST", "/api/servers", in).Field, name)
	}
	assert.Equal(t, "value", w.Problem("POST", "/api/secrets", testkit.Obj{"name": "n", "kind": "private-key", "value": "no key"}).Field)
	assert.Equal(t, "kind", w.Problem("POST", "/api/secrets", testkit.Obj{"name": "n", "kind": "map", "value": "x"}).Field)
}

// A private server: every session has a conversation of its own, which ends with
// it.
func TestPrivateServersKeepSessionsApart(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	script := testkit.NewScript(t)
	script.Call = func(c *testkit.ScriptCall) { c.Text(c.Session + " " + c.Caps) }
	w.Must("POST", "/api/servers", testkit.Obj{"name": "own", "url": testkit.Upstream(t, script), "sharing": "private"}, nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "all", "url": testkit.Upstream(t, script), "sharing": "shared"}, nil)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	var told []string
	var agents []*testkit.Raw
	for range 2 {
		a := w.Able("/mcp", pass, "2025-11-25", `{"roots":{"listChanged":true}}`)
		agents = append(agents, a)
		for _, tool := range []string{"own__act", "own__act", "all__act"} {
			told = append(
				told,
				a.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"` + tool + `"}}`).Result.Content[0].Text,
			)
		}
	}
	assert.Equal(t, told[0], told[1], "one session is one conversation")
	assert.NotEqual(t, told[0], told[3], "another one is another")
	assert.Equal(t, told[2], told[5], "what is shared is one for both")
	for _, text := range told {
		assert.Contains(t, text, `{"roots":{"listChanged":true}}`, "each declares what its agent can do")
	}
	agents[0].Post(`{"jsonrpc":"2.0","method":"notifications/roots/list_changed"}`)
	require.Eventually(
		t,
		func() bool { return len(script.Seen("roots/list_changed")) == 1 },
		15*time.Second,
		10*time.Millisecond,
		"told to the agent's own conversation only",
	)
	before := script.Sessions()
	res, err := http.DefaultClient.Do(agents[0].Request(context.Background(), "DELETE", ""))
	require.NoError(t, err)
	_ = res.Body.Close()
	require.Eventually(t, func() bool { return script.Sessions() == before-1 }, 15*time.Second, 10*time.Millisecond)
	again := agents[1].Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"own__act"}}`)
	raw, err := json.Marshal(again.Result.Content)
	require.NoError(t, err)
	assert.Contains(t, string(raw), strings.Fields(told[3])[0], "the other one goes on")
}

package link

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/locker"
	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
	"bouncer/standin/toolserver"
)

func quick(server, url, secret string) (Target, Options) {
	return Target{Server: server, URL: url, Secret: locker.NewSecret(secret)}, Options{SetupTimeout: 2 * time.Second, ConnectTimeout: time.Second, MessageLimit: 64 << 10}
}

// listener serves h and returns its base address.
func listener(t *testing.T, h http.Handler) string {
	return strings.TrimSuffix(serve(t, h), "/mcp")
}

func TestTheTransportIsFoundOut(t *testing.T) {
	sessions := serve(t, echo("echo"))
	legacy := listener(t, echo("echo").Legacy())
	stateless := listener(t, echo("echo").Stateless())
	for name, row := range map[string]struct {
		url, token, kind, revision string
		cause                      diagnosis.Cause
	}{
		"sessions":                   {sessions, token, team.StreamableHTTP, "2025-11-25", ""},
		"no sessions":                {stateless + "/mcp", token, team.StreamableHTTP, "2026-07-28", ""},
		"the oldest transport":       {legacy + "/sse", token, team.EventStream, "2024-11-05", ""},
		"its message endpoint":       {legacy + "/messages", token, team.StreamableHTTP, "", diagnosis.WrongPath},
		"the oldest, a wrong token":  {legacy + "/sse", "another", team.EventStream, "", diagnosis.TokenRejected},
		"no sessions, a wrong token": {stateless + "/mcp", "another", team.StreamableHTTP, "", diagnosis.TokenRejected},
		"nothing of the kind":        {legacy + "/nothing", token, team.StreamableHTTP, "", diagnosis.WrongPath},
	} {
		t.Run(name, func(t *testing.T) {
			target, o := quick("s", row.url, row.token)
			l, transport, offer, stages, err := Detect(t.Context(), target, o)
			t.Cleanup(func() { l.Close(context.Background()) }) // also of a failure
			assert.Equal(t, row.kind, transport)
			require.NotEmpty(t, stages)
			if row.cause != "" {
				var f *Failure
				require.ErrorAs(t, err, &f)
				assert.Equal(t, row.cause, f.Cause, f.Message)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, row.revision, offer.Revision)
			assert.Equal(t, row.revision, l.Revision())
			assert.Equal(t, "echo", offer.Lists[tools.Tools][0].Name)
			text, err := call(t.Context(), l, "hello")
			require.NoError(t, err)
			assert.Equal(t, "hello", text)
		})
	}
}

func TestEverythingOfAStatelessServerIsListed(t *testing.T) {
	target, o := quick("tides", listener(t, ferries.Tides().Stateless())+"/mcp", "")
	l := NewHTTP(target, o)
	defer l.Close(context.Background())
	offer, err := l.Offer(t.Context())
	require.NoError(t, err)
	var names []string
	for _, k := range tools.Kinds {
		for _, x := range offer.Lists[k] {
			names = append(names, x.Name)
		}
	}
	assert.Equal(t, []string{"tide_table", "passage_plan", "chart://skerrow/approach", "chart://notes/{harbour}"}, names)
	assert.Equal(t, "skerrow-tides 4.0.2", offer.Name+" "+offer.Version)
	require.NoError(t, l.Cancel(t.Context(), 1, "nobody wants it"), "closing the stream is the cancel")
	err = l.Subscribe(t.Context(), "chart://skerrow/approach", true)
	assert.ErrorContains(t, err, "no subscriptions")
}

// scripted answers requests of the stateless era as told; discover is answered
// properly.
func scripted(t *testing.T, capabilities string, answer func(w http.ResponseWriter, r *http.Request, id, method string, raw []byte)) *HTTP {
	target, o := quick("s", serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		f, err := wire.ReadFrame(raw)
		if err != nil || f.Kind != wire.Request {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		if f.Method == "server/discover" {
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"resultType":"complete","supportedVersions":["2026-07-28"],"capabilities":%s}}`, f.ID.Of(raw), capabilities)
			return
		}
		answer(w, r, string(f.ID.Of(raw)), f.Method, raw)
	})), "")
	l := NewHTTP(target, o)
	t.Cleanup(func() { l.Close(context.Background()) })
	return l
}

func TestStatelessRequestsCarryTheirEnvelopeAndHeaders(t *testing.T) {
	var seen http.Header
	var body string
	refuse := 0
	l := scripted(t, `{}`, func(w http.ResponseWriter, r *http.Request, id, _ string, raw []byte) {
		seen, body = r.Header.Clone(), string(raw)
		if refuse > 0 && strings.HasPrefix(seen.Get("Mcp-Name"), "=?base64?") {
			refuse--
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"error":{"code":-32020,"message":"raw, please"}}`, id)
			return
		}
		fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"resultType":"complete","content":[{"text":"done"}]}}`, id)
	})
	a := toolCall(`{"name":"s__Zürich","arguments":{"region":"nörd","n":7,"none":null}}`)
	a.Subject = "Zürich"
	a.Client = Client{Caps: wire.Caps{Form: true}, Info: []byte(`{"name":"quill"}`), Level: "info"}
	a.Mirrors = []wire.Mirror{{Header: "Region", Path: []string{"region"}, Type: "string"}, {Header: "N", Path: []string{"n"}, Type: "integer"}, {Header: "None", Path: []string{"none"}, Type: "string"}}
	x, err := l.Begin(t.Context(), a)
	require.NoError(t, err)
	x.Close()
	assert.Equal(t, []string{"2026-07-28", "tools/call", "=?base64?WsO8cmljaA==?=", "=?base64?bsO2cmQ=?=", "7"}, []string{seen.Get("Mcp-Protocol-Version"), seen.Get("Mcp-Method"), seen.Get("Mcp-Name"), seen.Get("Mcp-Param-Region"), seen.Get("Mcp-Param-N")})
	assert.NotContains(t, seen, "Mcp-Param-None", "null is left out")
	assert.NotContains(t, seen, "Mcp-Session-Id")
	var m struct {
		Params struct {
			Name string
			Meta map[string]json.RawMessage `json:"_meta"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(body), &m))
	assert.Equal(t, "Zürich", m.Params.Name)
	assert.JSONEq(t, `{"elicitation":{"form":{}}}`, string(m.Params.Meta[wire.MetaCaps]))
	assert.JSONEq(t, `{"name":"quill"}`, string(m.Params.Meta[wire.MetaInfo]))
	assert.JSONEq(t, `"info"`, string(m.Params.Meta[wire.MetaLevel]))

	refuse = 1
	x, err = l.Begin(t.Context(), a)
	require.NoError(t, err, "some servers want the name as it is")
	x.Close()
	assert.Equal(t, "Zürich", seen.Get("Mcp-Name"))
	a.P.Arguments = wire.Span{}
	a = toolCall(`{"name":"x","arguments":{"n":"seven"}}`)
	a.Mirrors = []wire.Mirror{{Header: "N", Path: []string{"n"}, Type: "integer"}}
	_, err = l.Begin(t.Context(), a)
	var f *Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.ArgumentsRefused, f.Cause)
}

func TestTheEraIsDecidedByAnswersOnly(t *testing.T) {
	for name, row := range map[string]struct {
		status int
		body   string // of the answer to server/discover; %s is the id
		era    string // "" when neither
		cause  diagnosis.Cause
	}{
		"it speaks the era":             {200, `{"jsonrpc":"2.0","id":%s,"result":{"supportedVersions":["2025-11-25","2026-07-28"],"capabilities":{}}}`, "2026-07-28", ""},
		"it has only older versions":    {200, `{"jsonrpc":"2.0","id":%s,"result":{"supportedVersions":["2025-11-25"]}}`, "2025-06-18", ""},
		"an unknown method":             {200, `{"jsonrpc":"2.0","id":%s,"error":{"code":-32601,"message":"?"}}`, "2025-06-18", ""},
		"an unknown method with status": {404, `{"jsonrpc":"2.0","id":%s,"error":{"code":-32601,"message":"?"}}`, "2025-06-18", ""},
		"a text with 400":               {400, `no session`, "2025-06-18", ""},
		"a stray code":                  {400, `{"jsonrpc":"2.0","id":%s,"error":{"code":0,"message":"?"}}`, "2025-06-18", ""},
		"older versions in the refusal": {400, `{"jsonrpc":"2.0","id":%s,"error":{"code":-32022,"message":"?","data":{"supported":["2025-11-25"]}}}`, "2025-06-18", ""},
		"an unusable refusal":           {400, `{"jsonrpc":"2.0","id":%s,"error":{"code":-32022,"message":"?"}}`, "2025-06-18", ""},
		"later versions only":           {400, `{"jsonrpc":"2.0","id":%s,"error":{"code":-32022,"message":"?","data":{"supported":["2030-01-01"]}}}`, "", diagnosis.NoRevision},
		"a missing credential":          {401, ``, "", diagnosis.NoCredential},
		"a forbidden one":               {403, ``, "", diagnosis.NotAllowed},
		"too many requests":             {429, ``, "", diagnosis.TooManyRequests},
		"a failing server":              {500, ``, "", diagnosis.ServerError},
		"a page":                        {200, `<html>`, "", diagnosis.NotJSONRPC},
	} {
		t.Run(name, func(t *testing.T) {
			target, o := quick("s", serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				raw, _ := io.ReadAll(r.Body)
				f, _ := wire.ReadFrame(raw)
				w.Header().Set("Content-Type", "application/json")
				switch f.Method {
				case "server/discover":
					w.WriteHeader(row.status)
					_, _ = io.WriteString(w, strings.ReplaceAll(row.body, "%s", string(f.ID.Of(raw))))
				case "initialize":
					fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-06-18","capabilities":{},"serverInfo":{}}}`, f.ID.Of(raw))
				default:
					w.WriteHeader(http.StatusAccepted)
				}
			})), "")
			l := NewHTTP(target, o)
			defer l.Close(context.Background())
			g, err := l.Open(t.Context())
			if row.era != "" {
				require.NoError(t, err)
				assert.Equal(t, row.era, g.Revision)
				return
			}
			var f *Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, row.cause, f.Cause, f.Message)
		})
	}
}

// A stream that ends before its answer is taken up again after the time that the
// server wants, at the event that came last.
func TestABrokenStreamIsResumed(t *testing.T) {
	for name, ids := range map[string]bool{"with event ids": true, "without": false} {
		t.Run(name, func(t *testing.T) {
			var gets []string
			var callID string
			target, o := quick("s", serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				raw, _ := io.ReadAll(r.Body)
				f, _ := wire.ReadFrame(raw)
				switch {
				case r.Method == http.MethodGet:
					gets = append(gets, r.Header.Get("Last-Event-Id"))
					w.Header().Set("Content-Type", "text/event-stream")
					if len(gets) < 3 {
						fmt.Fprintf(w, "id: e%d\nretry: 5\ndata: \n\n", len(gets))
						return // once more
					}
					fmt.Fprintf(w, "data: {\"jsonrpc\":\"2.0\",\"id\":%s,\"result\":{\"content\":[{\"text\":\"after all\"}]}}\n\n", callID)
				case f.Method == "initialize":
					w.Header().Set("Content-Type", "application/json")
					w.Header().Set("Mcp-Session-Id", "s1")
					fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{},"serverInfo":{}}}`, f.ID.Of(raw))
				case f.Method == "tools/call":
					callID = string(f.ID.Of(raw))
					w.Header().Set("Content-Type", "text/event-stream")
					if ids {
						fmt.Fprint(w, "id: e0\nretry: 5\ndata: \n\n")
					} else {
						fmt.Fprint(w, ": nothing to go by\n\n")
					}
				case f.Kind == wire.Request:
					http.Error(w, "?", http.StatusNotFound)
				default:
					w.WriteHeader(http.StatusAccepted)
				}
			})), "")
			l := NewHTTP(target, o)
			text, err := call(t.Context(), l, "x")
			if !ids {
				var f *Failure
				require.ErrorAs(t, err, &f)
				assert.Equal(t, diagnosis.OutcomeUnknown, f.Cause)
				assert.Empty(t, gets)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, "after all", text)
			assert.Equal(t, []string{"e0", "e1", "e2"}, gets)
		})
	}
}

func TestTheOldestTransportIsReadCarefully(t *testing.T) {
	for name, row := range map[string]struct {
		first string
		media string
		want  diagnosis.Cause
	}{
		"an endpoint at another origin": {"event: endpoint\ndata: http://elsewhere.example/messages\n\n", "text/event-stream", diagnosis.EndpointElsewhere},
		"an endpoint that is no URL":    {"event: endpoint\ndata: http://[::1\n\n", "text/event-stream", diagnosis.Malformed},
		"another first event":           {"event: hello\ndata: x\n\n", "text/event-stream", diagnosis.NoLegacy},
		"a stream that ends":            {"", "text/event-stream", diagnosis.StreamCut},
		"no stream":                     {"{}", "application/json", diagnosis.NoLegacy},
		"a page":                        {"<html>", "text/html", diagnosis.HTMLPage},
	} {
		t.Run(name, func(t *testing.T) {
			target, o := quick("s", serve(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", row.media)
				_, _ = io.WriteString(w, row.first)
			})), token)
			l := NewSSE(target, o)
			defer l.Close(context.Background())
			st := Judge(l.Probe(t.Context()))
			require.Equal(t, team.StateFailing, st.State)
			assert.Equal(t, row.want, st.Finding.Cause, st.Finding.Message)
			assert.False(t, st.Stages[len(st.Stages)-1].OK)
		})
	}
}

// All calls share the one stream; its end is the end of them all, and the next
// call opens another.
func TestCallsOverTheOldestTransport(t *testing.T) {
	release := make(chan struct{})
	s := toolserver.New("echo", "1.0", token,
		toolserver.Tool{Name: "echo", Schema: `{"type":"object"}`, Run: func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("text"), nil }},
		toolserver.Tool{Name: "wait", Schema: `{"type":"object"}`, Run: func(_ context.Context, c *toolserver.Call) (any, error) {
			c.Progress(1, 2, "half")
			<-release
			return "late", nil
		}})
	h := httptest.NewServer(s.Legacy())
	defer h.Close()
	target, o := quick("s", h.URL+"/sse", token)
	l := NewSSE(target, o)
	defer l.Close(context.Background())
	_, stages, err := l.Probe(t.Context())
	require.NoError(t, err)
	var names []string
	for _, s := range stages {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"connect", "initialize", "tools"}, names, "the connection for messages is no stage of its own")
	for i := range 5 {
		text, err := call(t.Context(), l, fmt.Sprint("call ", i))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("call ", i), text)
	}
	assert.ErrorContains(t, l.Subscribe(t.Context(), "chart://skerrow/approach", true), "no subscriptions", "what is not offered is not asked for")
	x, err := l.Begin(t.Context(), toolCall(`{"name":"wait","_meta":{"progressToken":"agents"}}`))
	require.NoError(t, err)
	_, f, err := x.Next()
	require.NoError(t, err)
	assert.Equal(t, "notifications/progress", f.Method)
	h.CloseClientConnections()
	_, _, err = x.Next()
	var failed *Failure
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.OutcomeUnknown, failed.Cause)
	assert.False(t, failed.Refused)
	x.Close()
	close(release)
	text, err := call(t.Context(), l, "again")
	require.NoError(t, err)
	assert.Equal(t, "again", text)
	s.Fail(toolserver.Unauthorised)
	_, err = call(t.Context(), l, "x")
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.TokenRejected, failed.Cause)
	assert.True(t, failed.Refused)
}

func TestARESTAPIIsCalled(t *testing.T) {
	base := listener(t, lostproperty.New("key-0123456789"))
	doc, err := restmap.Parse([]byte(lostproperty.Document))
	require.NoError(t, err)
	picks := []restmap.Pick{{ID: "searchItems", Name: "search"}, {ID: "logItem"}, {ID: "releaseItem"}, {ID: "getItem"}}
	target, o := quick("lost", base+"/v2", "key-0123456789")
	target.SecretHeader, target.Headers = "x-api-key", [][2]string{{"X-Team", "harbour"}}
	l, err := NewREST(target, "", doc, picks, o)
	require.NoError(t, err)
	defer l.Close(context.Background())
	st := Judge(l.Probe(t.Context()))
	require.Equal(t, team.StateReady, st.State)
	assert.Equal(t, 4, st.Tools)
	ask := func(l *REST, name, args string) (string, map[string]any, bool, error) {
		a := toolCall(`{"name":"` + name + `","arguments":` + args + `}`)
		x, err := l.Begin(t.Context(), a)
		if err != nil {
			return "", nil, false, err
		}
		defer x.Close()
		frame, f, err := answer(t.Context(), x)
		require.NoError(t, err)
		var r struct {
			Content           []struct{ Text string }
			StructuredContent map[string]any
		}
		require.NoError(t, json.Unmarshal(f.Result.Of(frame), &r), "%s", frame)
		return r.Content[0].Text, r.StructuredContent, f.Failed, nil
	}
	_, got, failed, err := ask(l, "search", `{"text":"umbrella","colour":["black","red"]}`)
	require.NoError(t, err)
	assert.False(t, failed)
	assert.Len(t, got["items"], 2)
	_, got, _, err = ask(l, "logItem", `{"what":"hat","vessel":"MV Petrel"}`)
	require.NoError(t, err)
	assert.Equal(t, "LP-0005", got["item"])
	_, got, _, err = ask(l, "releaseItem", `{"item":"LP-0005","X-Desk":"north","owner":"T. Castellane"}`)
	require.NoError(t, err)
	assert.Equal(t, "released", got["state"])
	text, _, failed, err := ask(l, "releaseItem", `{"item":"LP-0005","owner":"somebody"}`)
	require.NoError(t, err)
	assert.True(t, failed, "what the API refuses is an error of the tool")
	assert.Contains(t, text, "409 Conflict: {\"error\":\"released already to T. Castellane\"}")
	text, _, failed, err = ask(l, "releaseItem", `{"item":"LP-0005"}`)
	require.NoError(t, err)
	assert.True(t, failed)
	assert.Contains(t, text, "argument owner is missing")

	wrong := target
	wrong.Secret = locker.NewSecret("another-key")
	bad, err := NewREST(wrong, "", doc, picks, o)
	require.NoError(t, err)
	_, _, _, err = ask(bad, "search", `{}`)
	var f *Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.TokenRejected, f.Cause)
	assert.True(t, f.Refused)
	_, err = NewREST(target, "", doc, []restmap.Pick{{ID: "putPhoto"}}, o)
	assert.ErrorContains(t, err, "cannot be a tool")
}

func TestWhatARESTAPIAnswers(t *testing.T) {
	doc, err := restmap.Parse([]byte("openapi: 3.1.0\npaths: {/x: {get: {operationId: x, parameters: [{name: X-Team, in: header}]}}}"))
	require.NoError(t, err)
	for name, row := range map[string]struct {
		status      int
		media, body string
		want        string // of the result, or the cause
	}{
		"a list":              {200, "application/json", `[1,2]`, `{"content":[{"type":"text","text":"[1,2]"}],"structuredContent":{"result":[1,2]}}`},
		"a problem":           {422, "application/problem+json", `{"a":1}`, `{"content":[{"type":"text","text":"the API answered 422 Unprocessable Entity: {\"a\":1}"}],"isError":true}`},
		"nothing":             {204, "", ``, `{"content":[{"type":"text","text":"done (204)"}]}`},
		"an empty JSON":       {200, "application/json", ``, `{"content":[{"type":"text","text":"done"}]}`},
		"broken JSON":         {200, "application/json", `{"a":`, `{"content":[{"type":"text","text":"the API says that this is JSON, but it is not: {\"a\":"}],"isError":true}`},
		"a text":              {200, "text/plain", `fine`, `{"content":[{"type":"text","text":"fine"}]}`},
		"bytes":               {200, "image/png", "\x89PNG\xff", `{"content":[{"type":"text","text":"5 bytes of image/png, which is no text"}]}`},
		"a redirect":          {302, "", ``, "http.redirected"},
		"a missing key":       {401, "", ``, "auth.token-rejected"},
		"too much":            {200, "text/plain", strings.Repeat("x", 70<<10), "protocol.message-too-large"},
		"a server that fails": {503, "text/plain", "back soon", `{"content":[{"type":"text","text":"the API answered 503 Service Unavailable: back soon"}],"isError":true}`},
	} {
		t.Run(name, func(t *testing.T) {
			var seen *http.Request
			target, o := quick("s", listener(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				seen = r
				w.Header()["Content-Type"] = []string{row.media}
				w.WriteHeader(row.status)
				_, _ = io.WriteString(w, row.body)
			}))+"/base?fixed=1", "key-0123456789")
			target.Headers = [][2]string{{"X-Team", "ours"}}
			l, err := NewREST(target, "api_key", doc, []restmap.Pick{{ID: "x"}}, o)
			require.NoError(t, err)
			x, err := l.Begin(t.Context(), toolCall(`{"name":"x","arguments":{"X-Team":"an agent's"}}`))
			assert.Equal(t, "/base/x?api_key=key-0123456789&fixed=1", seen.URL.RequestURI())
			assert.Equal(t, []string{"ours"}, seen.Header["X-Team"], "an agent cannot set what the registration sets")
			assert.Empty(t, seen.Header.Get("Authorization"))
			if !strings.HasPrefix(row.want, "{") {
				var f *Failure
				require.ErrorAs(t, err, &f)
				assert.Equal(t, diagnosis.Cause(row.want), f.Cause)
				return
			}
			require.NoError(t, err)
			frame, f, err := x.Next()
			require.NoError(t, err)
			assert.JSONEq(t, row.want, string(f.Result.Of(frame)))
		})
	}
}

// A certificate authority of one's own, a client certificate, and HTTP/2.
func TestCertificatesAndHTTP2(t *testing.T) {
	var proto atomic.Value
	s := echo("echo")
	h := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { proto.Store(r.Proto); s.ServeHTTP(w, r) }))
	h.EnableHTTP2 = true
	h.StartTLS()
	defer h.Close()
	target, o := quick("s", h.URL+"/mcp", token)
	_, err := NewHTTP(target, o).Open(t.Context())
	var f *Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.CertUntrusted, f.Cause)
	target.CA = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: h.Certificate().Raw})
	l := NewHTTP(target, o)
	defer l.Close(context.Background())
	text, err := call(t.Context(), l, "over TLS")
	require.NoError(t, err)
	assert.Equal(t, "over TLS", text)
	assert.Equal(t, "HTTP/2.0", proto.Load(), "spoken where it is offered")
}

func TestProcessesAreKeptWithinTheirLimits(t *testing.T) {
	if !LimitsKept {
		t.Skip("limits are kept on Linux only")
	}
	for name, row := range map[string]struct {
		limits Limits
		play   string
		says   string
	}{
		"memory":    {Limits{MemoryMiB: 60}, "greedy", "MiB of memory; the limit is 60"},
		"processes": {Limits{Processes: 1}, "stubborn", "it ran 2 processes; the limit is 1"},
	} {
		t.Run(name, func(t *testing.T) {
			p := NewProcess(Command{Server: "actor", Command: os.Args[0], Env: map[string]string{"PLAY": row.play}, Limits: row.limits}, Options{SetupTimeout: 5 * time.Second})
			defer p.Close(context.Background())
			var err error
			for range 10 {
				if _, err = say(t.Context(), p, "slow"); err != nil {
					break
				}
			}
			var f *Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, diagnosis.OverLimit, f.Cause)
			assert.Contains(t, f.Message, row.says)
		})
	}
	p := NewProcess(Command{Server: "actor", Command: os.Args[0], Env: map[string]string{"PLAY": "files"}, Limits: Limits{OpenFiles: 40}}, Options{SetupTimeout: 5 * time.Second})
	defer p.Close(context.Background())
	got, err := say(t.Context(), p, "files")
	require.NoError(t, err)
	assert.Equal(t, "40", got)
}

package streamable

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/linktest"
	"bouncer/standin/ferries"
)

func TestEverythingOfAStatelessServerIsListed(t *testing.T) {
	t.Parallel()
	target, o := linktest.Target("tides", linktest.Serve(t, ferries.Tides().Stateless())+"/mcp", ""), linktest.Quick()
	l := New(target, o)
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
func scripted(t *testing.T, capabilities string, answer func(w http.ResponseWriter, r *http.Request, id, method string, raw []byte)) *Conn {
	target, o := linktest.Target("s", linktest.ServeMCP(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		f, err := wire.ReadFrame(raw)
		if err != nil || f.Kind != wire.Request {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		if f.Method == "server/discover" {
			fmt.Fprintf(
				w,
				`{"jsonrpc":"2.0","id":%s,"result":{"resultType":"complete","supportedVersions":["2026-07-28"],"capabilities":%s}}`,
				f.ID.Of(raw),
				capabilities,
			)
			return
		}
		answer(w, r, string(f.ID.Of(raw)), f.Method, raw)
	})), ""), linktest.Quick()
	l := New(target, o)
	t.Cleanup(func() { l.Close(context.Background()) })
	return l
}

func TestStatelessRequestsCarryTheirEnvelopeAndHeaders(t *testing.T) {
	t.Parallel()
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
	a := linktest.ToolCall(`{"name":"s__Zürich","arguments":{"region":"nörd","n":7,"none":null}}`)
	a.Subject = "Zürich"
	a.Client = link.Client{Caps: wire.Caps{Form: true}, Info: []byte(`{"name":"quill"}`), Level: "info"}
	a.Mirrors = []wire.Mirror{
		{Header: "Region", Path: []string{"region"}, Type: "string"},
		{Header: "N", Path: []string{"n"}, Type: "integer"},
		{Header: "None", Path: []string{"none"}, Type: "string"},
	}
	x, err := l.Begin(t.Context(), a)
	require.NoError(t, err)
	x.Close()
	assert.Equal(
		t,
		[]string{"2026-07-28", "tools/call", "=?base64?WsO8cmljaA==?=", "=?base64?bsO2cmQ=?=", "7"},
		[]string{
			seen.Get("Mcp-Protocol-Version"),
			seen.Get("Mcp-Method"),
			seen.Get("Mcp-Name"),
			seen.Get("Mcp-Param-Region"),
			seen.Get("Mcp-Param-N"),
		},
	)
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
	a = linktest.ToolCall(`{"name":"x","arguments":{"n":"seven"}}`)
	a.Mirrors = []wire.Mirror{{Header: "N", Path: []string{"n"}, Type: "integer"}}
	_, err = l.Begin(t.Context(), a)
	var f *link.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.ArgumentsRefused, f.Cause)
}

func TestTheEraIsDecidedByAnswersOnly(t *testing.T) {
	t.Parallel()
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
			target, o := linktest.Target("s", linktest.ServeMCP(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				raw, _ := io.ReadAll(r.Body)
				f, _ := wire.ReadFrame(raw)
				w.Header().Set("Content-Type", "application/json")
				switch f.Method {
				case "server/discover":
					w.WriteHeader(row.status)
					_, _ = io.WriteString(w, strings.ReplaceAll(row.body, "%s", string(f.ID.Of(raw))))
				case "initialize":
					fmt.Fprintf(
						w,
						`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-06-18","capabilities":{},"serverInfo":{}}}`,
						f.ID.Of(raw),
					)
				default:
					w.WriteHeader(http.StatusAccepted)
				}
			})), ""), linktest.Quick()
			l := New(target, o)
			defer l.Close(context.Background())
			g, err := l.Open(t.Context())
			if row.era != "" {
				require.NoError(t, err)
				assert.Equal(t, row.era, g.Revision)
				return
			}
			var f *link.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, row.cause, f.Cause, f.Message)
		})
	}
}

// A stream that ends before its answer is taken up again after the time that the
// server wants, at the event that came last.
func TestABrokenStreamIsResumed(t *testing.T) {
	t.Parallel()
	for name, ids := range map[string]bool{"with event ids": true, "without": false} {
		t.Run(name, func(t *testing.T) {
			var gets []string
			var callID string
			target, o := linktest.Target("s", linktest.ServeMCP(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
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
					fmt.Fprintf(
						w,
						`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{},"serverInfo":{}}}`,
						f.ID.Of(raw),
					)
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
			})), ""), linktest.Quick()
			l := New(target, o)
			text, err := linktest.Call(t.Context(), l, "x")
			if !ids {
				var f *link.Failure
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

// A certificate authority of one's own, a client certificate, and HTTP/2.
func TestCertificatesAndHTTP2(t *testing.T) {
	t.Parallel()
	var proto atomic.Value
	s := linktest.Echo("echo")
	h := httptest.NewUnstartedServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { proto.Store(r.Proto); s.ServeHTTP(w, r) }),
	)
	h.EnableHTTP2 = true
	h.StartTLS()
	defer h.Close()
	target, o := linktest.Target("s", h.URL+"/mcp", linktest.Token), linktest.Quick()
	o.ConnectTimeout, o.SetupTimeout = 30*time.Second, 30*time.Second // a handshake takes its time on a busy machine
	_, err := New(target, o).Open(t.Context())
	var f *link.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.CertUntrusted, f.Cause)
	target.CA = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: h.Certificate().Raw})
	l := New(target, o)
	defer l.Close(context.Background())
	text, err := linktest.Call(t.Context(), l, "over TLS")
	require.NoError(t, err)
	assert.Equal(t, "over TLS", text)
	assert.Equal(t, "HTTP/2.0", proto.Load(), "spoken where it is offered")
}

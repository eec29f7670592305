package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/locker"
	"bouncer/standin/toolserver"
)

const token = "skf-canary-0123456789"

func echo(names ...string) *toolserver.Server {
	var list []toolserver.Tool
	for _, n := range names {
		list = append(list, toolserver.Tool{Name: n, Schema: `{"type":"object"}`, Run: func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("text"), nil }})
	}
	return toolserver.New("echo", "1.0", token, list...)
}

func serve(t *testing.T, h http.Handler) string {
	s := httptest.NewServer(h)
	t.Cleanup(func() { s.CloseClientConnections(); s.Close() })
	return s.URL + "/mcp"
}

func to(t *testing.T, url, bearer string) *HTTP {
	l := NewHTTP(Target{Server: "echo", URL: url, Secret: locker.NewSecret(bearer)}, Options{SetupTimeout: time.Second, ConnectTimeout: time.Second, MessageLimit: 64 << 10})
	t.Cleanup(func() { l.Close(context.Background()) })
	return l
}

// toolCall is an agent's call of a tool, ready to be sent.
func toolCall(params string) *Ask {
	a := own("tools/call", []byte(params), "call")
	p, err := wire.ReadParams(a.Src, a.Params, a.Method)
	if err != nil {
		panic(err)
	}
	a.P, a.Subject = p, p.Subject
	return a
}

func call(ctx context.Context, l Link, text string) (string, error) {
	x, err := l.Begin(ctx, toolCall(fmt.Sprintf(`{"name":"echo","arguments":{"text":%q}}`, text)))
	if err != nil {
		return "", err
	}
	defer x.Close()
	frame, f, err := answer(ctx, x)
	if err != nil {
		return "", err
	}
	var r struct{ Content []struct{ Text string } }
	if err := json.Unmarshal(f.Result.Of(frame), &r); err != nil || len(r.Content) != 1 {
		return "", fmt.Errorf("no text in %s", frame)
	}
	return r.Content[0].Text, nil
}

func TestProbeTellsFailuresApart(t *testing.T) {
	closed := httptest.NewServer(http.NotFoundHandler())
	closed.Close()
	silent, err := net.Listen("tcp", "127.0.0.1:0") // accepts, and says nothing
	require.NoError(t, err)
	defer silent.Close()
	tls := httptest.NewTLSServer(echo("echo"))
	defer tls.Close()
	tls.Config.ErrorLog = slog.NewLogLogger(slog.NewTextHandler(io.Discard, nil), slog.LevelInfo)
	fault := func(name string) string {
		s := echo("echo")
		s.Fail(name)
		return serve(t, s)
	}
	redirect := serve(t, http.RedirectHandler("https://elsewhere.example/login", http.StatusFound))
	plainHTTP := serve(t, echo("echo"))
	for name, row := range map[string]struct {
		url, bearer string
		want        diagnosis.Cause
	}{
		"no such name":           {"http://no-such-host.invalid/mcp", token, diagnosis.NoSuchHost},
		"nothing listens":        {closed.URL + "/mcp", token, diagnosis.Refused},
		"says nothing":           {"http://" + silent.Addr().String() + "/mcp", token, diagnosis.NeverAnswers},
		"an unknown authority":   {tls.URL + "/mcp", token, diagnosis.CertUntrusted},
		"https to a plain port":  {strings.Replace(plainHTTP, "http://", "https://", 1), token, diagnosis.TLSOnPlain},
		"no token":               {serve(t, echo("echo")), "", diagnosis.NoCredential},
		"a wrong token":          {serve(t, echo("echo")), "skf-another-one", diagnosis.TokenRejected},
		"401 to everything":      {fault(toolserver.Unauthorised), token, diagnosis.TokenRejected},
		"403":                    {fault(toolserver.Forbidden), token, diagnosis.NotAllowed},
		"404":                    {fault(toolserver.Gone), token, diagnosis.WrongPath},
		"a web page":             {fault(toolserver.Page), token, diagnosis.HTMLPage},
		"JSON, but not JSON-RPC": {fault(toolserver.Garbage), token, diagnosis.NotJSONRPC},
		"accepts, never answers": {fault(toolserver.Silent), token, diagnosis.NeverAnswers},
		"500":                    {fault(toolserver.Broken), token, diagnosis.ServerError},
		"503":                    {fault(toolserver.Maintenance), token, diagnosis.BadGateway},
		"a redirect":             {redirect, token, diagnosis.Redirected},
	} {
		t.Run(name, func(t *testing.T) {
			st := Judge(to(t, row.url, row.bearer).Probe(t.Context()))
			require.Equal(t, team.StateFailing, st.State)
			assert.Equal(t, row.want, st.Finding.Cause, st.Finding.Message)
			require.NotEmpty(t, st.Stages)
			last := st.Stages[len(st.Stages)-1]
			assert.False(t, last.OK, "the stage that failed is the last one shown")
			raw, err := json.Marshal(st)
			require.NoError(t, err)
			assert.NotContains(t, string(raw), token)
		})
	}
	st := Judge(to(t, serve(t, echo("b", "a")), token).Probe(t.Context()))
	require.Equal(t, team.StateReady, st.State)
	assert.Equal(t, []string{"a", "b"}, []string{st.Offer.Lists[tools.Tools][0].Name, st.Offer.Lists[tools.Tools][1].Name})
	assert.Equal(t, "2025-11-25 echo 1.0", st.Revision+" "+st.ServerName+" "+st.ServerVersion)
	assert.Equal(t, []string{"connect", "initialize", "tools"}, []string{st.Stages[0].Name, st.Stages[1].Name, st.Stages[2].Name})
}

// script answers initialize properly and everything else as told.
func script(t *testing.T, answer func(w http.ResponseWriter, m map[string]any)) string {
	return serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var m map[string]any
		if r.Method != http.MethodPost || json.NewDecoder(r.Body).Decode(&m) != nil {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		switch m["method"] {
		case "server/discover":
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"error":{"code":-32601,"message":"unknown method"}}`, m["id"])
		case "initialize":
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"result":{"protocolVersion":"2025-06-18","capabilities":{"tools":{}},"serverInfo":{"name":"s","version":"1"}}}`, m["id"])
		case "notifications/initialized":
			w.WriteHeader(http.StatusAccepted)
		default:
			answer(w, m)
		}
	}))
}

func TestMisbehavingAnswersHarmOneRequestOnly(t *testing.T) {
	event := func(w http.ResponseWriter, data string) {
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprintf(w, "data: %s\n\n", data)
	}
	for name, row := range map[string]struct {
		answer func(http.ResponseWriter, map[string]any)
		want   diagnosis.Cause
	}{
		"another id":          {func(w http.ResponseWriter, _ map[string]any) { fmt.Fprint(w, `{"jsonrpc":"2.0","id":999,"result":{}}`) }, diagnosis.Malformed},
		"a request as answer": {func(w http.ResponseWriter, _ map[string]any) { fmt.Fprint(w, `{"jsonrpc":"2.0","id":1,"method":"x"}`) }, diagnosis.Malformed},
		"half a body": {func(w http.ResponseWriter, m map[string]any) {
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"res`, m["id"])
		}, diagnosis.NotJSONRPC},
		"an empty 202": {func(w http.ResponseWriter, _ map[string]any) { w.Header().Del("Content-Type"); w.WriteHeader(202) }, diagnosis.NeverAnswers},
		"plain text": {func(w http.ResponseWriter, _ map[string]any) {
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, "hello")
		}, diagnosis.NotJSONRPC},
		"a huge body": {func(w http.ResponseWriter, m map[string]any) {
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"result":{"x":"%s"}}`, m["id"], strings.Repeat("x", 70<<10))
		}, diagnosis.TooLarge},
		"a huge event": {func(w http.ResponseWriter, _ map[string]any) { event(w, strings.Repeat("x", 70<<10)) }, diagnosis.TooLarge},
		"a stream that ends": {func(w http.ResponseWriter, _ map[string]any) {
			event(w, `{"jsonrpc":"2.0","method":"notifications/message"}`)
		}, diagnosis.OutcomeUnknown},
		"a stream of garbage": {func(w http.ResponseWriter, _ map[string]any) { event(w, `{"hello":1}`) }, diagnosis.NotJSONRPC},
		"a stream of others":  {func(w http.ResponseWriter, _ map[string]any) { event(w, `{"jsonrpc":"2.0","id":999,"result":{}}`) }, diagnosis.OutcomeUnknown},
		"a cut in the middle": {func(w http.ResponseWriter, _ map[string]any) {
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, `{"jsonrpc"`)
		}, diagnosis.OutcomeUnknown},
	} {
		t.Run(name, func(t *testing.T) {
			bad := true
			l := to(t, script(t, func(w http.ResponseWriter, m map[string]any) {
				if bad {
					row.answer(w, m)
					return
				}
				fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"result":{"content":[{"text":"fine"}]}}`, m["id"])
			}), "")
			_, err := call(t.Context(), l, "a")
			var f *Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, row.want, f.Cause)
			assert.False(t, f.Refused, "it may have been executed, so nothing may repeat it")
			bad = false
			text, err := call(t.Context(), l, "a")
			require.NoError(t, err)
			assert.Equal(t, "fine", text)
		})
	}
}

func TestEndlessPagingIsGivenUp(t *testing.T) {
	for name, cursor := range map[string]func(n int32) string{"the same cursor": func(int32) string { return "again" }, "ever new cursors": func(n int32) string { return fmt.Sprint(n) }} {
		t.Run(name, func(t *testing.T) {
			var n atomic.Int32
			l := to(t, script(t, func(w http.ResponseWriter, m map[string]any) {
				fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"result":{"tools":[],"nextCursor":%q}}`, m["id"], cursor(n.Add(1)))
			}), "")
			_, err := l.Offer(t.Context())
			var f *Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, diagnosis.EndlessPages, f.Cause)
			assert.LessOrEqual(t, int(n.Load()), maxPages+1)
		})
	}
}

// A server that does not know the session has not executed the request, so it
// is sent once more; nothing else is.
func TestLostSessionIsOpenedAnewWithoutLosingOrRepeatingACall(t *testing.T) {
	s := echo("echo")
	l := to(t, serve(t, s), token)
	for range 3 {
		text, err := call(t.Context(), l, "hello")
		require.NoError(t, err)
		assert.Equal(t, "hello", text)
		s.Fail(toolserver.Forgetful)
	}
	assert.Equal(t, 3, s.Calls())
	s.Fail(toolserver.Cut)
	_, err := call(t.Context(), l, "cut")
	require.Error(t, err)
	assert.Equal(t, 4, s.Calls(), "a call whose outcome is unknown is not repeated")
}

func TestServerRequestsAreAnsweredHonestly(t *testing.T) {
	answers := make(chan string, 4)
	url := serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		f, err := wire.ReadFrame(raw)
		if err != nil || f.Kind == wire.Notification {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		if f.Kind == wire.Response {
			answers <- string(raw)
			w.WriteHeader(http.StatusAccepted)
			return
		}
		if f.Method == "server/discover" {
			http.Error(w, "no session", http.StatusBadRequest)
			return
		}
		if f.Method == "initialize" {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{},"serverInfo":{}}}`, f.ID.Of(raw))
			return
		}
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprintf(w, "data: {\"jsonrpc\":\"2.0\",\"id\":\"p\",\"method\":\"ping\"}\n\ndata: {\"jsonrpc\":\"2.0\",\"id\":7,\"method\":\"sampling/createMessage\",\"params\":{}}\n\ndata: {\"jsonrpc\":\"2.0\",\"id\":%s,\"result\":{\"content\":[{\"text\":\"done\"}]}}\n\n", f.ID.Of(raw))
	}))
	text, err := call(t.Context(), to(t, url, ""), "x")
	require.NoError(t, err)
	assert.Equal(t, "done", text)
	assert.JSONEq(t, `{"jsonrpc":"2.0","id":"p","result":{}}`, <-answers)
	assert.Contains(t, <-answers, `"id":7,"error":{"code":-32601`)
}

// A JSON-RPC error in the body of a 400 is the server's answer.
func TestErrorsInsideABadRequestAreAnswers(t *testing.T) {
	l := to(t, script(t, func(w http.ResponseWriter, m map[string]any) {
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"error":{"code":-32602,"message":"no such sailing"}}`, m["id"])
	}), "")
	x, err := l.Begin(t.Context(), toolCall(`{"name":"x"}`))
	require.NoError(t, err)
	defer x.Close()
	frame, f, err := answer(t.Context(), x)
	require.NoError(t, err)
	assert.Equal(t, wire.RPCError{Code: -32602, Message: "no such sailing"}, wire.ReadError(frame, f.Error))
}

func TestKeeperFollowsItsServer(t *testing.T) {
	s := echo("one")
	answers := make(chan struct{}) // closed when the server may answer
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { <-answers; s.ServeHTTP(w, r) }))
	defer h.Close()
	news := make(chan Status, 100)
	l := NewHTTP(Target{Server: "echo", URL: h.URL, Secret: locker.NewSecret(token)}, Options{SetupTimeout: 10 * time.Second})
	k := Keep(t.Context(), l, []tools.Tool{{Name: "remembered"}}, KeeperOptions{Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Changed: func(s Status) { news <- s }})
	assert.Equal(t, "remembered", k.Status().Offer.Lists[tools.Tools][0].Name, "the recorded list is in force until the server has answered")
	close(answers)
	wait := func(why string, ok func(Status) bool) {
		t.Helper()
		deadline := time.After(15 * time.Second)
		for {
			select {
			case st := <-news:
				if ok(st) {
					return
				}
			case <-deadline:
				require.Fail(t, why, "%+v", k.Status())
			}
		}
	}
	has := func(name string) func(Status) bool {
		return func(s Status) bool {
			list := s.Offer.Lists[tools.Tools]
			return s.State == team.StateReady && len(list) == 1 && list[0].Name == name
		}
	}
	wait("it becomes ready", has("one"))
	require.Eventually(t, func() bool {
		s.SetTools(toolserver.Tool{Name: "two", Schema: `{}`})
		select {
		case st := <-news:
			return has("two")(st)
		case <-time.After(200 * time.Millisecond):
			return false
		}
	}, 10*time.Second, time.Millisecond, "a changed list is noticed by the notification, not by polling")
	s.Fail(toolserver.Unauthorised)
	k.Check(t.Context(), to(t, h.URL, token))
	wait("it fails", func(s Status) bool { return s.State == team.StateFailing && s.Finding.Cause == diagnosis.TokenRejected })
	assert.Equal(t, "two", k.Status().Offer.Lists[tools.Tools][0].Name, "the list outlives the failure")
	s.Fail(toolserver.Healthy)
	wait("it recovers by itself", has("two"))
	k.Report(diagnosis.Finding{Cause: diagnosis.Refused})
	assert.Equal(t, team.StateFailing, k.Status().State, "a call's failure shows at once")
	ended := make(chan struct{})
	go func() { k.Close(context.Background()); close(ended) }()
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Fatal("Close does not return")
	}
}

func TestGivenUpCallsReturnAtOnce(t *testing.T) {
	s := echo("echo")
	l := to(t, serve(t, s), token)
	_, err := l.Open(t.Context())
	require.NoError(t, err)
	s.Fail(toolserver.Silent)
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	_, err = call(ctx, l, "x")
	assert.True(t, errors.Is(err, context.Canceled), "%v", err)
}

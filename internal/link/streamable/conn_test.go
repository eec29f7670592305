package streamable

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
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/link/linktest"
	"bouncer/internal/locker"
	"bouncer/standin/toolserver"
)

// patient is longer than a busy machine takes for anything.
const patient = 30 * time.Second

func to(t *testing.T, url, bearer string) *Conn { return within(t, patient, url, bearer) }

func within(t *testing.T, limit time.Duration, url, bearer string) *Conn {
	l := New(
		httpx.Target{Server: "echo", URL: url, Secret: locker.NewSecret(bearer)},
		link.Options{SetupTimeout: limit, ConnectTimeout: limit, MessageLimit: 64 << 10},
	)
	t.Cleanup(func() { l.Close(context.Background()) })
	return l
}

func TestProbeTellsFailuresApart(t *testing.T) {
	t.Parallel()
	closed := httptest.NewServer(http.NotFoundHandler())
	closed.Close()
	silent, err := net.Listen("tcp", "127.0.0.1:0") // accepts, and says nothing
	require.NoError(t, err)
	defer silent.Close()
	tls := httptest.NewTLSServer(linktest.Echo("echo"))
	defer tls.Close()
	tls.Config.ErrorLog = slog.NewLogLogger(slog.NewTextHandler(io.Discard, nil), slog.LevelInfo)
	fault := func(name string) string {
		s := linktest.Echo("echo")
		s.Fail(name)
		return linktest.ServeMCP(t, s)
	}
	redirect := linktest.ServeMCP(t, http.RedirectHandler("https://elsewhere.example/login", http.StatusFound))
	plainHTTP := linktest.ServeMCP(t, linktest.Echo("echo"))
	for name, row := range map[string]struct {
		url, bearer string
		want        diagnosis.Cause
	}{
		"no such name":           {"http://no-such-host.invalid/mcp", linktest.Token, diagnosis.NoSuchHost},
		"nothing listens":        {closed.URL + "/mcp", linktest.Token, diagnosis.Refused},
		"says nothing":           {"http://" + silent.Addr().String() + "/mcp", linktest.Token, diagnosis.NeverAnswers},
		"an unknown authority":   {tls.URL + "/mcp", linktest.Token, diagnosis.CertUntrusted},
		"https to a plain port":  {strings.Replace(plainHTTP, "http://", "https://", 1), linktest.Token, diagnosis.TLSOnPlain},
		"no token":               {linktest.ServeMCP(t, linktest.Echo("echo")), "", diagnosis.NoCredential},
		"a wrong token":          {linktest.ServeMCP(t, linktest.Echo("echo")), "skf-another-one", diagnosis.TokenRejected},
		"401 to everything":      {fault(toolserver.Unauthorised), linktest.Token, diagnosis.TokenRejected},
		"403":                    {fault(toolserver.Forbidden), linktest.Token, diagnosis.NotAllowed},
		"404":                    {fault(toolserver.Gone), linktest.Token, diagnosis.WrongPath},
		"a web page":             {fault(toolserver.Page), linktest.Token, diagnosis.HTMLPage},
		"JSON, but not JSON-RPC": {fault(toolserver.Garbage), linktest.Token, diagnosis.NotJSONRPC},
		"accepts, never answers": {fault(toolserver.Silent), linktest.Token, diagnosis.NeverAnswers},
		"500":                    {fault(toolserver.Broken), linktest.Token, diagnosis.ServerError},
		"503":                    {fault(toolserver.Maintenance), linktest.Token, diagnosis.BadGateway},
		"a redirect":             {redirect, linktest.Token, diagnosis.Redirected},
	} {
		t.Run(name, func(t *testing.T) {
			limit := patient
			if row.want == diagnosis.NeverAnswers {
				limit = 1500 * time.Millisecond // and a connection has to be made in it
			}
			st := link.Assess(within(t, limit, row.url, row.bearer).Probe(t.Context()))
			require.Equal(t, team.StateFailing, st.State)
			assert.Equal(t, row.want, st.Finding.Cause, st.Finding.Message)
			require.NotEmpty(t, st.Stages)
			last := st.Stages[len(st.Stages)-1]
			assert.False(t, last.OK, "the stage that failed is the last one shown")
			raw, err := json.Marshal(st)
			require.NoError(t, err)
			assert.NotContains(t, string(raw), linktest.Token)
		})
	}
	st := link.Assess(to(t, linktest.ServeMCP(t, linktest.Echo("b", "a")), linktest.Token).Probe(t.Context()))
	require.Equal(t, team.StateReady, st.State)
	assert.Equal(t, []string{"a", "b"}, []string{st.Offer.Lists[tools.Tools][0].Name, st.Offer.Lists[tools.Tools][1].Name})
	assert.Equal(t, "2025-11-25 echo 1.0", st.Revision+" "+st.ServerName+" "+st.ServerVersion)
	assert.Equal(t, []string{"connect", "initialize", "tools"}, []string{st.Stages[0].Name, st.Stages[1].Name, st.Stages[2].Name})
}

func TestMisbehavingAnswersHarmOneRequestOnly(t *testing.T) {
	t.Parallel()
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
			l := to(t, linktest.Scripted(t, func(w http.ResponseWriter, m map[string]any) {
				if bad {
					row.answer(w, m)
					return
				}
				fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"result":{"content":[{"text":"fine"}]}}`, m["id"])
			}), "")
			_, err := linktest.Call(t.Context(), l, "a")
			var f *link.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, row.want, f.Cause)
			assert.False(t, f.Refused, "it may have been executed, so nothing may repeat it")
			bad = false
			text, err := linktest.Call(t.Context(), l, "a")
			require.NoError(t, err)
			assert.Equal(t, "fine", text)
		})
	}
}

func TestEndlessPagingIsGivenUp(t *testing.T) {
	t.Parallel()
	for name, cursor := range map[string]func(n int32) string{"the same cursor": func(int32) string { return "again" }, "ever new cursors": func(n int32) string { return fmt.Sprint(n) }} {
		t.Run(name, func(t *testing.T) {
			var n atomic.Int32
			l := to(t, linktest.Scripted(t, func(w http.ResponseWriter, m map[string]any) {
				fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"result":{"tools":[],"nextCursor":%q}}`, m["id"], cursor(n.Add(1)))
			}), "")
			_, err := l.Offer(t.Context())
			var f *link.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, diagnosis.EndlessPages, f.Cause)
			assert.LessOrEqual(t, int(n.Load()), 200+1)
		})
	}
}

// A server that does not know the session has not executed the request, so it
// is sent once more; nothing else is.
func TestLostSessionIsOpenedAnewWithoutLosingOrRepeatingACall(t *testing.T) {
	t.Parallel()
	s := linktest.Echo("echo")
	l := to(t, linktest.ServeMCP(t, s), linktest.Token)
	for range 3 {
		text, err := linktest.Call(t.Context(), l, "hello")
		require.NoError(t, err)
		assert.Equal(t, "hello", text)
		s.Fail(toolserver.Forgetful)
	}
	assert.Equal(t, 3, s.Calls())
	s.Fail(toolserver.Cut)
	_, err := linktest.Call(t.Context(), l, "cut")
	require.Error(t, err)
	assert.Equal(t, 4, s.Calls(), "a call whose outcome is unknown is not repeated")
}

func TestServerRequestsAreAnsweredHonestly(t *testing.T) {
	t.Parallel()
	answers := make(chan string, 4)
	url := linktest.ServeMCP(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
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
			fmt.Fprintf(
				w,
				`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{},"serverInfo":{}}}`,
				f.ID.Of(raw),
			)
			return
		}
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprintf(
			w,
			"data: {\"jsonrpc\":\"2.0\",\"id\":\"p\",\"method\":\"ping\"}\n\ndata: {\"jsonrpc\":\"2.0\",\"id\":7,\"method\":\"sampling/createMessage\",\"params\":{}}\n\ndata: {\"jsonrpc\":\"2.0\",\"id\":%s,\"result\":{\"content\":[{\"text\":\"done\"}]}}\n\n",
			f.ID.Of(raw),
		)
	}))
	text, err := linktest.Call(t.Context(), to(t, url, ""), "x")
	require.NoError(t, err)
	assert.Equal(t, "done", text)
	assert.JSONEq(t, `{"jsonrpc":"2.0","id":"p","result":{}}`, <-answers)
	assert.Contains(t, <-answers, `"id":7,"error":{"code":-32601`)
}

// A JSON-RPC error in the body of a 400 is the server's answer.
func TestErrorsInsideABadRequestAreAnswers(t *testing.T) {
	t.Parallel()
	l := to(t, linktest.Scripted(t, func(w http.ResponseWriter, m map[string]any) {
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"error":{"code":-32602,"message":"no such sailing"}}`, m["id"])
	}), "")
	x, err := l.Begin(t.Context(), linktest.ToolCall(`{"name":"x"}`))
	require.NoError(t, err)
	defer x.Close()
	frame, f, err := base.ReadAnswer(t.Context(), x)
	require.NoError(t, err)
	assert.Equal(t, wire.RPCError{Code: -32602, Message: "no such sailing"}, wire.ReadError(frame, f.Error))
}

func TestGivenUpCallsReturnAtOnce(t *testing.T) {
	t.Parallel()
	s := linktest.Echo("echo")
	l := to(t, linktest.ServeMCP(t, s), linktest.Token)
	_, err := l.Open(t.Context())
	require.NoError(t, err)
	s.Fail(toolserver.Silent)
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	_, err = linktest.Call(ctx, l, "x")
	assert.True(t, errors.Is(err, context.Canceled), "%v", err)
}

package sse

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/linktest"
	"bouncer/standin/toolserver"
)

func TestTheOldestTransportIsReadCarefully(t *testing.T) {
	t.Parallel()
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
			target, o := linktest.Target("s", linktest.ServeMCP(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", row.media)
				_, _ = io.WriteString(w, row.first)
			})), linktest.Token), linktest.Quick()
			l := New(target, o)
			defer l.Close(context.Background())
			st := link.Assess(l.Probe(t.Context()))
			require.Equal(t, team.StateFailing, st.State)
			assert.Equal(t, row.want, st.Finding.Cause, st.Finding.Message)
			assert.False(t, st.Stages[len(st.Stages)-1].OK)
		})
	}
}

// All calls share the one stream; its end is the end of them all, and the next
// call opens another.
func TestCallsOverTheOldestTransport(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	s := toolserver.New(
		"echo",
		"1.0",
		linktest.Token,
		toolserver.Tool{
			Name:   "echo",
			Schema: `{"type":"object"}`,
			Run:    func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("text"), nil },
		},
		toolserver.Tool{Name: "wait", Schema: `{"type":"object"}`, Run: func(_ context.Context, c *toolserver.Call) (any, error) {
			c.Progress(1, 2, "half")
			<-release
			return "late", nil
		}},
	)
	h := httptest.NewServer(s.Legacy())
	defer h.Close()
	target, o := linktest.Target("s", h.URL+"/sse", linktest.Token), linktest.Quick()
	l := New(target, o)
	defer l.Close(context.Background())
	_, stages, err := l.Probe(t.Context())
	require.NoError(t, err)
	var names []string
	for _, s := range stages {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"connect", "initialize", "tools"}, names, "the connection for messages is no stage of its own")
	for i := range 5 {
		text, err := linktest.Call(t.Context(), l, fmt.Sprint("call ", i))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("call ", i), text)
	}
	assert.ErrorContains(
		t,
		l.Subscribe(t.Context(), "chart://skerrow/approach", true),
		"no subscriptions",
		"what is not offered is not asked for",
	)
	x, err := l.Begin(t.Context(), linktest.ToolCall(`{"name":"wait","_meta":{"progressToken":"agents"}}`))
	require.NoError(t, err)
	_, f, err := x.Next()
	require.NoError(t, err)
	assert.Equal(t, "notifications/progress", f.Method)
	h.CloseClientConnections()
	_, _, err = x.Next()
	var failed *link.Failure
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.OutcomeUnknown, failed.Cause)
	assert.False(t, failed.Refused)
	x.Close()
	close(release)
	text, err := linktest.Call(t.Context(), l, "again")
	require.NoError(t, err)
	assert.Equal(t, "again", text)
	s.Fail(toolserver.Unauthorised)
	_, err = linktest.Call(t.Context(), l, "x")
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, diagnosis.TokenRejected, failed.Cause)
	assert.True(t, failed.Refused)
}

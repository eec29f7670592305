package inside

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
)

// What is served to an agent from within is read as it would be from without.
func TestAnswersAreRead(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		serve    func(w http.ResponseWriter)
		messages int
		response string
	}{
		"plain": {func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"jsonrpc":"2.0","id":1,"result":{}}`)
		}, 1, `{"jsonrpc":"2.0","id":1,"result":{}}`},
		"events": {func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "text/event-stream")
			_, _ = io.WriteString(w, ": \n\ndata: {\"jsonrpc\":\"2.0\",\"method\":\"notifications/progress\"}\n\n")
			_ = http.NewResponseController(w).Flush()
			_, _ = io.WriteString(w, "data: {\"jsonrpc\":\"2.0\",\"id\":1,\"error\":{\"code\":-1,\"message\":\"no\"}}\n\n")
		}, 2, `{"jsonrpc":"2.0","id":1,"error":{"code":-1,"message":"no"}}`},
		"broken off": {func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "text/event-stream")
			_, _ = io.WriteString(w, "data: {\"jsonrpc\":\"2.0\",\"method\":\"ping\",\"id\":4}\n\n")
		}, 1, ""},
		"nothing": {func(w http.ResponseWriter) { w.WriteHeader(http.StatusAccepted) }, 0, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			serve := func(w http.ResponseWriter, r *http.Request, agentID string) {
				assert.Equal(t, "01A", agentID)
				assert.Equal(t, "application/json", r.Header.Get("Content-Type"))
				assert.Equal(t, "tools/call", r.Header.Get(wire.HeaderMethod))
				assert.Equal(t, "radio__act", r.Header.Get(wire.HeaderName))
				raw, err := io.ReadAll(r.Body)
				assert.NoError(t, err)
				assert.Equal(t, "{}", string(raw))
				row.serve(w)
			}
			a, err := Send(t.Context(), serve, "01A", []byte("{}"), Stateless("tools/call", "radio__act"))
			require.NoError(t, err)
			require.Len(t, a.Messages, row.messages)
			for i := range a.Messages[min(1, len(a.Messages)):] {
				assert.GreaterOrEqual(t, a.Messages[i+1].MS, a.Messages[i].MS, "later messages came later")
			}
			raw, err := a.Response()
			if row.response == "" {
				assert.ErrorIs(t, err, ErrBrokeOff)
				return
			}
			require.NoError(t, err)
			assert.JSONEq(t, row.response, string(raw))
		})
	}
}

// An answer that is too large is not kept, and a session is left as it was opened.
func TestBoundsAndLeaving(t *testing.T) {
	t.Parallel()
	_, err := Send(t.Context(), func(w http.ResponseWriter, _ *http.Request, _ string) {
		part := make([]byte, 1<<20)
		for range MaxAnswer>>20 + 1 {
			n, err := w.Write(part)
			assert.NoError(t, err, "whoever serves is not to fail for it")
			assert.Equal(t, len(part), n)
		}
	}, "01A", nil, nil)
	require.ErrorIs(t, err, ErrTooLarge)
	left := ""
	require.NoError(t, Leave(t.Context(), func(_ http.ResponseWriter, r *http.Request, _ string) {
		left = r.Method + " " + r.Header.Get("Mcp-Session-Id")
	}, "01A", "s-1"))
	assert.Equal(t, "DELETE s-1", left)
}

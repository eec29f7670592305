package tap

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/link"
)

// ear remembers what it is told.
type ear struct{ told []told }

type told struct {
	line   uint64
	what   link.Heard
	text   string
	size   int
	method string
	status int
}

func (e *ear) Frame(line uint64, what link.Heard, text []byte, size int) {
	e.told = append(e.told, told{line: line, what: what, text: string(text), size: size})
}

func (e *ear) Answer(line uint64, method string, status int, _ http.Header, _ time.Duration) {
	e.told = append(e.told, told{line: line, method: method, status: status})
}

// A plain answer is told as one, however many parts it is written in, with its whole size
// and its beginning; it goes out unaltered.
func TestAPlainAnswerIsToldWhole(t *testing.T) {
	t.Parallel()
	var e ear
	out := httptest.NewRecorder()
	w := New(out, &e, 7, http.MethodPost)
	w.Asked([]byte(`{"id":1}`))
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusOK)
	long := strings.Repeat("x", maxBody)
	for _, part := range []string{`{"id":`, "1", `}`, long} {
		n, err := w.Write([]byte(part))
		require.NoError(t, err)
		assert.Equal(t, len(part), n)
	}
	w.Done()
	w.Done() // twice tells nothing twice
	whole := `{"id":1}` + long
	assert.Equal(t, whole, out.Body.String())
	assert.Equal(t, []told{
		{line: 7, what: link.Sent, text: `{"id":1}`, size: 8},
		{line: 7, method: http.MethodPost, status: http.StatusOK},
		{line: 7, what: link.Received, text: whole[:maxBody], size: len(whole)},
	}, e.told)
	assert.Equal(t, http.StatusOK, w.Status())
}

// Each event of a stream is told as it goes, as the message that it carries; signs of life,
// events without data and the address for messages, which may have a pass in it, are not.
func TestEventsAreToldAsMessages(t *testing.T) {
	t.Parallel()
	var e ear
	out := httptest.NewRecorder()
	w := New(out, &e, 3, http.MethodGet)
	w.Header().Set("Content-Type", "text/event-stream; charset=utf-8")
	for _, event := range []string{
		"event: endpoint\ndata: /in/canary/sse?session=1\n\n", ": \n\n", "id: 1-1\nretry: 100\ndata: \n\n", "id: 1-2\ndata: {\"method\":\"ping\"}\n\n", "event: message\ndata: {\"id\":2}\n\n",
		"data: {\"text\":\"data: is not here\"}\n\n",
	} {
		_, err := w.Write([]byte(event))
		require.NoError(t, err)
	}
	w.Done()
	var said []string
	for _, one := range e.told {
		if one.what == link.Received {
			said = append(said, one.text)
		}
	}
	assert.Equal(t, []string{`{"method":"ping"}`, `{"id":2}`, `{"text":"data: is not here"}`}, said)
	assert.Equal(t, http.StatusOK, e.told[0].status, "a header that nobody wrote is 200")
	require.NoError(t, http.NewResponseController(w).Flush(), "what is beneath can be reached")
	assert.True(t, out.Flushed)
}

// An answer without a body is told by its head alone; lines are never the same.
func TestAnAnswerWithoutABody(t *testing.T) {
	t.Parallel()
	var e ear
	w := New(httptest.NewRecorder(), &e, Line(), http.MethodDelete)
	w.WriteHeader(http.StatusNoContent)
	w.WriteHeader(http.StatusOK) // the first counts
	w.Done()
	require.Len(t, e.told, 1)
	assert.Equal(t, http.StatusNoContent, e.told[0].status)
	assert.NotEqual(t, Line(), Line())
}

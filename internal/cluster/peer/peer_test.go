package peer

import (
	"bytes"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster"
	"bouncer/standin/broker"
)

func join(t *testing.T, b *broker.Broker, name string, key []byte, serve http.HandlerFunc) *Peers {
	t.Helper()
	c, err := cluster.Join(t.Context(), cluster.Options{
		Servers: strings.Split(b.Addresses(), ","), Name: "skerrow", Node: name, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	p, err := Start(c, key, "http://127.0.0.1:4680", serve)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	return p
}

// next is what comes next.
func next[E any](t *testing.T, from <-chan E) (out E) {
	t.Helper()
	select {
	case out = <-from:
	case <-time.After(30 * time.Second):
		require.Fail(t, "nothing came")
	}
	return out
}

// Nodes with the same key ask each other, and tell each other; nobody else is answered or heard,
// and what goes between them cannot be read on the way.
func TestNodesAskEachOther(t *testing.T) {
	t.Parallel()
	b, err := broker.Start(t.TempDir(), 1)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	key, other := bytes.Repeat([]byte{1}, 32), bytes.Repeat([]byte{2}, 32)
	echo := func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		assert.True(t, Inside(r))
		assert.Equal(t, "127.0.0.1:4680", r.Host)
		w.WriteHeader(http.StatusAccepted)
		_, _ = io.WriteString(w, r.Method+" "+r.URL.String()+" "+r.Header.Get("Authorization")+" "+string(raw))
	}
	north := join(t, b, "north", key, echo)
	south := join(t, b, "south", key, echo)
	stranger := join(t, b, "stranger", other, echo)
	heard := make(chan string, 8)
	stop, err := north.cluster.Hear(func(raw []byte) { heard <- string(raw) })
	require.NoError(t, err)
	t.Cleanup(stop)

	r := &Request{Method: "POST", Path: "/api/held/1/decision", Query: "a=b", Authorization: "Bearer bnt_marit", Body: []byte("once")}
	answers, silent := north.Ask(t.Context(), []string{"south", "stranger", "nobody"}, r)
	require.Len(t, answers, 1)
	assert.Equal(t, Answer{
		Node: "south", Status: http.StatusAccepted, Body: []byte("POST http://127.0.0.1:4680/api/held/1/decision?a=b Bearer bnt_marit once"),
	}, answers[0])
	assert.Equal(t, []string{"stranger", "nobody"}, silent)
	answers, _ = stranger.Ask(t.Context(), []string{"south"}, r)
	assert.Empty(t, answers)

	told := make(chan News, 8)
	unhear, err := south.Hear(func(n News) { told <- n })
	require.NoError(t, err)
	t.Cleanup(unhear)
	require.NoError(t, stranger.Tell("budgets", "forged"))
	require.NoError(t, south.Tell("budgets", "its own"))
	require.NoError(t, north.Tell("budgets", "bnt_canary"))
	assert.Equal(t, News{"north", "budgets", []byte(`"bnt_canary"`)}, next(t, told))
	assert.Empty(t, told)
	for range 3 {
		assert.NotContains(t, next(t, heard), "canary")
	}
}

// What was sealed for one node, or long ago, is nothing for another or for now.
func TestWhatWasHeardOnTheWayIsOfNoUse(t *testing.T) {
	t.Parallel()
	b, err := broker.Start(t.TempDir(), 1)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	north := join(t, b, "north", bytes.Repeat([]byte{1}, 32), func(http.ResponseWriter, *http.Request) {})
	sealed, err := north.seal(message{To: "south", Request: &Request{Method: "GET", Path: "/"}})
	require.NoError(t, err)
	north.heard(sealed, func([]byte) { t.Error("it is for another node") })
	for i := range sealed {
		forged := bytes.Clone(sealed)
		forged[i] ^= 1
		_, err := north.open(forged)
		require.Error(t, err)
	}
	_, err = north.open(nil)
	require.ErrorContains(t, err, "too short")

	large, err := http.NewRequest(http.MethodPost, "http://127.0.0.1/api/held/1/decision", bytes.NewReader(make([]byte, maxBody+1)))
	require.NoError(t, err)
	_, err = NewRequest(large)
	require.ErrorIs(t, err, ErrTooLarge)
	raw, err := io.ReadAll(large.Body)
	require.NoError(t, err)
	assert.Len(t, raw, maxBody+1, "whoever answers it here still reads all of it")
}

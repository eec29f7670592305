package loopback

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lingering has connections that, when they are closed, wait a moment for their client to be back.
type lingering struct {
	net.Listener
	back chan struct{}
}

func (l lingering) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	return lingeringConn{c, l.back}, err
}

type lingeringConn struct {
	net.Conn
	back chan struct{}
}

func (c lingeringConn) Close() error {
	err := c.Conn.Close()
	select {
	case <-c.back:
	case <-time.After(200 * time.Millisecond):
	}
	return err
}

// A client that comes back whenever it is cut off, for an answer that never ends, does not keep a
// server from ending.
func TestEndingIsNotKeptUp(t *testing.T) {
	back := make(chan struct{}, 100)
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		back <- struct{}{}
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
	}))
	s.Listener = lingering{s.Listener, back}
	s.Start()
	ctx, cancel := context.WithCancel(t.Context())
	var client sync.WaitGroup
	client.Go(func() {
		for ctx.Err() == nil {
			req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL, nil)
			assert.NoError(t, err)
			if res, err := http.DefaultClient.Do(req); err == nil {
				_, _ = io.Copy(io.Discard, res.Body)
				_ = res.Body.Close()
			}
		}
	})
	<-back
	ended := make(chan struct{})
	go func() {
		End(s)
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		require.Fail(t, "it does not end")
	}
	cancel()
	client.Wait()
}

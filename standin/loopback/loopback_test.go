package loopback

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A client that comes back whenever it is cut off, for an answer that never ends, does not keep a
// server from ending.
func TestEndingIsNotKeptUp(t *testing.T) {
	for range 20 {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
		}))
		ctx, cancel := context.WithCancel(t.Context())
		var clients sync.WaitGroup
		for range 8 {
			clients.Go(func() {
				for ctx.Err() == nil {
					req, _ := http.NewRequestWithContext(ctx, http.MethodGet, s.URL, nil)
					if res, err := http.DefaultClient.Do(req); err == nil {
						_, _ = io.Copy(io.Discard, res.Body)
						_ = res.Body.Close()
					}
				}
			})
		}
		ended := make(chan struct{})
		go func() { End(s); close(ended) }()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			assert.Fail(t, "it does not end")
		}
		cancel()
		clients.Wait()
	}
}

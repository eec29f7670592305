// Package loopback ends HTTP servers on loopback that have clients which come back by themselves.
package loopback

import (
	"net/http/httptest"
	"time"
)

// End closes a server with all connections. The server alone waits for requests that are under way,
// and a client that was cut off, and came back before the listener closed, may have begun one that
// lasts as long as it likes.
func End(s *httptest.Server) {
	ended := make(chan struct{})
	go func() {
		s.Close()
		close(ended)
	}()
	ticker := time.NewTicker(10 * time.Millisecond)
	defer ticker.Stop()
	for {
		s.CloseClientConnections()
		select {
		case <-ended:
			return
		case <-ticker.C:
		}
	}
}

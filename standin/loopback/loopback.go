// Package loopback has what servers on loopback need: ports, and an end that clients which come back
// by themselves cannot put off.
package loopback

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http/httptest"
	"time"
)

// Ports that FreePort chooses among: systems take those of connections, and of listeners that do not
// care, from higher ones.
const (
	firstPort = 20_000
	lastPort  = 32_000
)

// FreePort returns a port of loopback that nobody listens on, for a program that has to be told one, or
// for one that is started again at the same. What the system chooses for others in the meantime is
// another one.
func FreePort() (int, error) {
	var errs error
	for range 100 {
		port := firstPort + rand.IntN(lastPort-firstPort) //nolint:gosec // nothing is kept secret by it
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			errs = err
			continue
		}
		return port, l.Close()
	}
	return 0, errors.Join(errors.New("no port of loopback is free"), errs)
}

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

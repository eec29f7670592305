package toolserver

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"sync"
)

// Noisy makes a server over standard input and output print log lines among its
// messages, as careless ones do.
const Noisy = "noisy"

// ServeStdio speaks the stdio transport until in ends, and returns when every
// call is answered.
func (s *Server) ServeStdio(ctx context.Context, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var pen sync.Mutex
	write := func(m message) {
		pen.Lock()
		defer pen.Unlock()
		s.mu.Lock()
		noisy := s.fault == Noisy
		s.mu.Unlock()
		if noisy {
			_, _ = fmt.Fprintln(out, "INFO about to answer")
		}
		reply(out, m)
		_, _ = fmt.Fprintln(out)
	}
	var calls sync.WaitGroup
	defer calls.Wait()
	changed := make(chan struct{}, 1)
	s.mu.Lock()
	s.sessions["stdio"] = changed
	s.mu.Unlock()
	go func() {
		for {
			select {
			case <-changed:
				write(message{JSONRPC: "2.0", Method: "notifications/tools/list_changed"})
			case <-ctx.Done():
				return
			}
		}
	}()
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var m message
		if json.Unmarshal(lines.Bytes(), &m) != nil || m.ID == nil || m.Method == "" {
			continue
		}
		if m.Method != "tools/call" {
			write(s.plain(m))
			continue
		}
		calls.Go(func() { write(s.carryOut(ctx, m, write)) })
	}
	return lines.Err()
}

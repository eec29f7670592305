package apart

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/testkit"
)

// The nodes run an earlier Bouncer, and each is exchanged for this one after the other, under agents
// that call all the while. Calls go on; a node of before takes over what one of now alters, or says
// why it cannot, and is not ready; and in the end the registers are equal, and every answered call is
// on record once.
func TestNodesAreUpgradedOneByOne(t *testing.T) {
	before := os.Getenv("BOUNCER_BEFORE")
	if before == "" {
		t.Skip("make test-upgrade FROM=COMMIT gives an earlier Bouncer")
	}
	s := begin(t)
	for _, h := range s.net.hosts {
		h.bouncer = before
	}
	s.start()
	passes := s.people()
	ctx, stop := context.WithCancel(t.Context())
	var calling sync.WaitGroup
	defer calling.Wait()
	defer stop()
	for i, pass := range passes {
		calling.Go(func() { s.agent(ctx, i, pass) })
	}
	for i, h := range s.net.hosts {
		s.answers()
		at := s.net.hosts[0] // which is of now, but for the first time
		status, _, raw := s.do(at, "PATCH", fmt.Sprintf("/api/nodes/host-%d", h.number), s.header(), testkit.Obj{"draining": true})
		require.Equal(t, http.StatusOK, status, "%s", raw)
		require.NoError(t, h.node.Process.Signal(syscall.SIGTERM))
		require.NoError(t, h.node.Wait(), "it ends in order")
		h.bouncer = s.net.bouncer
		h.start()
		s.level(h)
		status, _, raw = s.do(h, "PATCH", fmt.Sprintf("/api/nodes/host-%d", h.number), s.header(), testkit.Obj{"draining": false})
		require.Equal(t, http.StatusOK, status, "%s", raw)
		s.ready(h)
		name := fmt.Sprintf("by-host-%d", h.number)
		s.world(h).Must("POST", "/api/agents", testkit.Obj{"name": name, "owner": "marit"}, nil)
		for _, old := range s.net.hosts[i+1:] {
			t.Logf("host %d was upgraded; host %d %s", h.number, old.number, s.takesOver(old, name))
		}
	}
	s.answers()
	stop()
	calling.Wait()
	s.settle()
	for _, h := range s.net.hosts {
		for _, by := range s.net.hosts {
			s.world(h).Must("GET", fmt.Sprintf("/api/agents/by-host-%d", by.number), nil, nil)
		}
	}
	s.judge()
}

// answers waits until some more calls are answered.
func (s *storm) answers() {
	s.Helper()
	count := func() int {
		s.mu.Lock()
		defer s.mu.Unlock()
		return len(s.answered)
	}
	before := count()
	require.Eventually(s, func() bool { return count() > before+manyAgents }, time.Minute, 50*time.Millisecond)
}

// level waits until a node has all that the log has, whether it takes work or not.
func (s *storm) level(h *host) {
	s.Helper()
	var last []byte
	ok := assert.Eventually(s, func() bool {
		var list apitype.Nodes
		var status int
		status, _, last = s.do(h, "GET", "/api/nodes", s.header(), nil)
		if status != http.StatusOK || json.Unmarshal(last, &list) != nil {
			return false
		}
		for _, n := range list.Nodes {
			if n.Here {
				return n.Applied == n.Last && n.Trouble == ""
			}
		}
		return false
	}, 2*time.Minute, 100*time.Millisecond)
	require.True(s, ok, "host %d: %s", h.number, last)
}

// takesOver waits until a node of before has what one of now altered, or says that it cannot have it.
func (s *storm) takesOver(h *host, agent string) (what string) {
	s.Helper()
	require.Eventually(s, func() bool {
		if status, _, _ := s.do(h, "GET", "/api/agents/"+agent, s.header(), nil); status == http.StatusOK {
			what = "took over what it altered"
			return true
		}
		status, _, raw := s.do(h, "GET", "/readyz", http.Header{}, nil)
		what = "is not ready: " + string(bytes.TrimSpace(raw))
		return status == http.StatusServiceUnavailable && bytes.Contains(raw, []byte("this Bouncer knows"))
	}, time.Minute, 100*time.Millisecond)
	return what
}

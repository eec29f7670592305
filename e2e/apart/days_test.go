package apart

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
)

// call calls the tool as an agent, without a session, and returns what comes back.
func (s *storm) call(h *host, pass, text string) string {
	header := http.Header{
		"Authorization": {"Bearer " + pass}, "Accept": {"application/json, text/event-stream"},
		"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"tools/call"}, "Mcp-Name": {"echo__echo"},
	}
	_, _, raw := s.do(h, "POST", "/mcp", header, `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo",`+
		`"arguments":{"text":"`+text+`"},"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28",`+
		`"io.modelcontextprotocol/clientCapabilities":{}}}}`)
	return string(raw)
}

// says waits until what a node says of itself holds a text.
func (s *storm) says(h *host, text string) {
	s.Helper()
	var last []byte
	ok := assert.Eventually(s, func() bool {
		_, _, last = s.do(h, "GET", "/readyz", http.Header{}, nil)
		return bytes.Contains(last, []byte(text))
	}, time.Minute, 100*time.Millisecond)
	require.True(s, ok, "host %d: %s", h.number, last)
}

// All servers of the cluster are gone for ten minutes: the nodes refuse calls and say why, and go on by
// themselves when the servers are back.
func TestAllServersAreGone(t *testing.T) {
	long := length(t)
	s := begin(t)
	s.start()
	passes := s.people()
	for i, h := range s.net.hosts {
		text := fmt.Sprintf("call-%d-before.", i)
		require.Contains(t, s.call(h, passes[i], text), `"text":"`+text)
		s.answered[text] = time.Now()
	}
	for _, h := range s.net.hosts {
		end(h.broker)
	}
	for i, h := range s.net.hosts {
		s.says(h, "this node has been cut off from the others since")
		assert.Contains(t, s.call(h, passes[i], "meanwhile."), "cannot be sure what is allowed by now")
	}
	ctx, stop := context.WithTimeout(t.Context(), long)
	defer stop()
	var asking sync.WaitGroup
	for i, h := range s.net.hosts {
		asking.Go(func() { // agents and people go on trying all the while
			for ctx.Err() == nil {
				assert.NotContains(t, s.call(h, passes[i], "meanwhile."), `"text":"meanwhile."`)
				status, _, raw := s.do(h, "POST", "/api/agents", s.header(), testkit.Obj{"name": "late", "owner": "marit"})
				assert.Contains(t, []int{0, http.StatusServiceUnavailable}, status, "%s", raw)
				wait(ctx, time.Second)
			}
		})
	}
	asking.Wait()
	for _, h := range s.net.hosts {
		h.serve()
	}
	s.settle()
	for i, h := range s.net.hosts {
		text := fmt.Sprintf("call-%d-after.", i)
		require.Contains(t, s.call(h, passes[i], text), `"text":"`+text)
		s.answered[text] = time.Now()
	}
	s.world(s.net.hosts[1]).Must("POST", "/api/agents", testkit.Obj{"name": "afterwards", "owner": "marit"}, nil)
	s.settle()
	s.judge()
}

// The disk of one node is full: it says so and refuses calls, the others go on, and it is level with them
// when there is room again.
func TestTheDiskOfOneNodeIsFull(t *testing.T) {
	length(t)
	s := begin(t)
	full, other := s.net.hosts[2], s.net.hosts[0]
	data := filepath.Join(full.dir, "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", data).CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("umount", "-l", data).Run() })
	s.start()
	passes := s.people()
	filling, err := os.Create(filepath.Join(data, "filling"))
	require.NoError(t, err)
	for block := bytes.Repeat([]byte("x"), 64<<10); len(block) > 0; {
		if _, err := filling.Write(block); err != nil {
			block = block[:len(block)/2]
		}
	}
	require.NoError(t, filling.Close())

	text := ""
	require.Eventually(t, func() bool { text = s.call(full, passes[0], "no room."); return strings.Contains(text, "error") },
		time.Minute, 100*time.Millisecond)
	assert.NotContains(t, text, `"text":"no room."`)
	assert.Contains(t, s.call(other, passes[0], "call-0-elsewhere."), `"text":"call-0-elsewhere."`)
	s.answered["call-0-elsewhere."] = time.Now()
	w := s.world(other)
	for i := range 40 { // more than there is room for
		w.Must("POST", "/api/agents", testkit.Obj{"name": fmt.Sprintf("more-%d-%s", i, strings.Repeat("x", 20)), "owner": "marit"}, nil)
	}
	require.NoError(t, os.Remove(filling.Name()))
	s.settle()
	require.Eventually(t, func() bool {
		return strings.Contains(s.call(full, passes[1], "call-1-again."), `"text":"call-1-again."`)
	},
		time.Minute, 100*time.Millisecond)
	s.answered["call-1-again."] = time.Now()
	s.judge()
}

package across

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/cluster/peer"
)

const (
	countTime = time.Minute      // that other nodes may take to count
	writeTime = 20 * time.Second // that a reader may take to take in a piece
)

// total tells how many calls all nodes have, while they are counted: what is found here as it grows,
// and what others found as each of them is done.
func (h *Handler) total(w http.ResponseWriter, r *http.Request, request *peer.Request, others []string) {
	ctx, stop := context.WithCancel(r.Context())
	defer stop()
	t := &tally{w: w, rc: http.NewResponseController(w), left: len(others) + 1}
	long := *request
	long.Within = countTime
	var group sync.WaitGroup
	for _, node := range others {
		group.Go(func() {
			answers, _ := h.Peers.Ask(ctx, []string{node}, &long)
			var found apitype.CallTotal
			known := len(answers) == 1 && answers[0].Status == http.StatusOK
			if known {
				found, known = lastTotal(answers[0].Body)
			}
			t.of(node, found.Found, known)
		})
	}
	own := &following{tally: t}
	h.Next.ServeHTTP(own, r)
	if own.refused != nil {
		t.stop()
		stop()
		own.refused.Send(w)
	}
	group.Wait()
}

// lastTotal is what a count ended with, of its events; false for a count that did not end.
func lastTotal(events []byte) (last apitype.CallTotal, done bool) {
	for line := range bytes.Lines(events) {
		if data, ok := bytes.CutPrefix(line, []byte("data: ")); ok && json.Unmarshal(data, &last) != nil {
			return last, false
		}
	}
	return last, last.Done
}

// tally is a count of all nodes.
type tally struct {
	w  http.ResponseWriter
	rc *http.ResponseController

	mu     sync.Mutex // guards what follows, and is held over telling it, so that it is told in order
	here   apitype.CallTotal
	there  int
	left   int // nodes that are not done yet
	silent []string
	open   bool
	ended  bool
}

// of takes in what another node has found.
func (t *tally) of(node string, found int, known bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.left--
	if known {
		t.there += found
	} else {
		t.silent = append(t.silent, node)
		slices.Sort(t.silent)
	}
	if t.open {
		_ = t.tell() // the reader may have gone, which the count here notices
	}
}

// own takes in what was found here by now.
func (t *tally) own(found apitype.CallTotal) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if found.Done && !t.here.Done {
		t.left--
	}
	t.here = found
	return t.tell()
}

// stop has nothing be told from now on.
func (t *tally) stop() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ended = true
}

// tell writes an event. It is called with the lock held.
func (t *tally) tell() error {
	if t.ended {
		return nil
	}
	if !t.open {
		t.open = true
		t.w.Header().Set("Content-Type", "text/event-stream")
		t.w.Header().Set("X-Accel-Buffering", "no")
		t.w.WriteHeader(http.StatusOK)
	}
	sum := apitype.CallTotal{Found: t.here.Found + t.there, Seen: t.here.Seen, Done: t.left == 0, Silent: t.silent}
	raw, err := json.Marshal(sum)
	if err != nil {
		return fmt.Errorf("write how many calls there are: %w", err)
	}
	t.ended = sum.Done
	if err := t.rc.SetWriteDeadline(time.Now().Add(writeTime)); err != nil {
		return fmt.Errorf("set the time that the reader has: %w", err)
	}
	if _, err := fmt.Fprintf(t.w, "event: found\ndata: %s\n\n", raw); err != nil {
		return fmt.Errorf("tell how many calls there are: %w", err)
	}
	return t.rc.Flush()
}

// following reads the events of the count that is made here as they are written.
type following struct {
	tally   *tally
	header  http.Header
	refused *peer.Recorded // what was answered instead of a count; nil for nothing
	rest    []byte         // of a line that has not ended
}

// Header implements http.ResponseWriter.
func (f *following) Header() http.Header {
	if f.header == nil {
		f.header = http.Header{}
	}
	return f.header
}

// WriteHeader implements http.ResponseWriter.
func (f *following) WriteHeader(status int) {
	if status != http.StatusOK && f.refused == nil {
		f.refused = &peer.Recorded{}
		for name, values := range f.header {
			f.refused.Header()[name] = values
		}
		f.refused.WriteHeader(status)
	}
}

// Write implements http.ResponseWriter.
func (f *following) Write(b []byte) (int, error) {
	if f.refused != nil {
		return f.refused.Write(b)
	}
	f.rest = append(f.rest, b...)
	for {
		line, rest, whole := bytes.Cut(f.rest, []byte("\n"))
		if !whole {
			return len(b), nil
		}
		f.rest = rest
		data, ok := strings.CutPrefix(string(line), "data: ")
		if !ok {
			continue
		}
		var found apitype.CallTotal
		if err := json.Unmarshal([]byte(data), &found); err != nil {
			return 0, fmt.Errorf("read how many calls there are: %w", err)
		}
		if err := f.tally.own(found); err != nil {
			return 0, err
		}
	}
}

// Flush and SetWriteDeadline do nothing: what is told to the reader has both.
func (f *following) Flush() {}

// SetWriteDeadline does nothing.
func (f *following) SetWriteDeadline(time.Time) error { return nil }

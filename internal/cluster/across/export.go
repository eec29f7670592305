package across

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/cluster/peer"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
)

// What nodes are asked for at a time, and how often again when they are busy.
const (
	pageCalls = 400
	pageTries = 4
	pagePause = 500 * time.Millisecond
)

// export writes the calls of all nodes in one order. A node that has nothing to say at the beginning
// is named; one that stops amid its calls breaks the export off, so that a part is not taken for
// the whole.
func (h *Handler) export(w http.ResponseWriter, r *http.Request, request *peer.Request, others []string) {
	query := r.URL.Query()
	form, given := query.Get("form"), query.Get("limit")
	most, err := strconv.Atoi(given)
	if (given != "" && (err != nil || most < 1)) || !slices.Contains([]string{"", "csv", "jsonl"}, form) {
		h.Next.ServeHTTP(w, r) // which says what is wrong with it
		return
	}
	query.Set("form", "jsonl")
	m := &merged{ctx: r.Context(), query: query, left: most}
	own := &source{ask: h.here(r)}
	if refused := m.more(own); refused != nil {
		var by *refusedError
		if errors.As(refused, &by) {
			by.page.Send(w)
		}
		return
	}
	sources := []*source{own}
	var silent []string
	for _, node := range others {
		s := &source{ask: h.there(r.Context(), node, request)}
		if err := m.more(s); err != nil {
			silent = append(silent, node)
			continue
		}
		sources = append(sources, s)
	}
	tell(w.Header(), silent)
	media, name, out := "application/jsonl", "calls.jsonl", journal.NewJSONLines(w)
	if form == "csv" {
		media, name, out = "text/csv; charset=utf-8", "calls.csv", journal.NewCSV(w)
	}
	w.Header().Set("Content-Type", media)
	w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
	if err := m.write(w, sources, out); err != nil {
		panic(http.ErrAbortHandler)
	}
	_ = out.End() // the reader may have gone
}

// source is a node whose calls are exported.
type source struct {
	ask   func(query string) *peer.Recorded // gives a page of calls
	calls []team.Call                       // of the page
	after string                            // the last one that was read
	ended bool
}

// here asks this node for a page.
func (h *Handler) here(r *http.Request) func(string) *peer.Recorded {
	return func(query string) *peer.Recorded {
		page := &peer.Recorded{}
		again := r.Clone(r.Context())
		again.Body, again.URL.RawQuery = http.NoBody, query
		h.Next.ServeHTTP(page, again)
		return page
	}
}

// there asks another one.
func (h *Handler) there(ctx context.Context, node string, request *peer.Request) func(string) *peer.Recorded {
	return func(query string) *peer.Recorded {
		one := *request
		one.Query = query
		answers, _ := h.Peers.Ask(ctx, []string{node}, &one)
		page := &peer.Recorded{}
		if len(answers) == 0 {
			page.WriteHeader(http.StatusServiceUnavailable)
			return page
		}
		page.WriteHeader(answers[0].Status)
		page.Body.Write(answers[0].Body)
		return page
	}
}

// merged is an export in the making.
type merged struct {
	ctx   context.Context
	query url.Values
	left  int // how many calls are still wanted; 0 for all
}

// refusedError says that a node gave no page.
type refusedError struct{ page *peer.Recorded }

func (e *refusedError) Error() string {
	return fmt.Sprintf("it answers with status %d", e.page.Status())
}

// more reads the next page of a node. One that is too large for a message is asked for in parts, and
// a node that is busy is asked again.
func (m *merged) more(s *source) error {
	query := maps.Clone(m.query)
	if s.after != "" {
		query.Set("after", s.after)
	}
	n := pageCalls
	if m.left > 0 {
		n = min(n, m.left)
	}
	for try := 1; ; {
		query.Set("limit", strconv.Itoa(n))
		page := s.ask(query.Encode())
		switch status := page.Status(); {
		case status == http.StatusOK:
			return s.take(page.Body.Bytes())
		case status == http.StatusRequestEntityTooLarge && n > 1:
			n /= 2
			continue
		case try == pageTries, status != http.StatusTooManyRequests && status != http.StatusServiceUnavailable:
			return &refusedError{page}
		}
		try++
		select {
		case <-time.After(pagePause):
		case <-m.ctx.Done():
			return m.ctx.Err()
		}
	}
}

// take reads a page.
func (s *source) take(lines []byte) error {
	s.calls = s.calls[:0]
	for line := range bytes.Lines(lines) {
		var c team.Call
		if err := json.Unmarshal(line, &c); err != nil {
			return fmt.Errorf("read a call: %w", err)
		}
		s.calls, s.after = append(s.calls, c), c.ID
	}
	s.ended = len(s.calls) == 0
	return nil
}

// write writes what the nodes have, by the ids of the calls.
func (m *merged) write(w http.ResponseWriter, sources []*source, out journal.Exporter) error {
	rc := http.NewResponseController(w)
	for {
		sources = slices.DeleteFunc(sources, func(s *source) bool { return s.ended })
		if len(sources) == 0 {
			return nil
		}
		first := slices.MinFunc(sources, func(a, b *source) int { return strings.Compare(a.calls[0].ID, b.calls[0].ID) })
		if err := rc.SetWriteDeadline(time.Now().Add(writeTime)); err != nil {
			return fmt.Errorf("set the time that the reader has: %w", err)
		}
		if err := out.Write(first.calls[0]); err != nil {
			return err
		}
		if m.left > 0 {
			if m.left--; m.left == 0 {
				return nil
			}
		}
		if first.calls = first.calls[1:]; len(first.calls) > 0 {
			continue
		}
		if err := m.more(first); err != nil {
			return err
		}
	}
}

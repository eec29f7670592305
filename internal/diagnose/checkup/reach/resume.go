package reach

import (
	"context"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/core/evidence"
)

// poll is what an event stream that ends before its response says of being taken up again
// (MCP 2025-11-25, transports).
type poll struct {
	last  string        // id of the last event; "" for a stream that cannot be taken up
	retry time.Duration // how long to stay away; 0 for nothing said
}

// Bounds on taking up a stream: how often, and how long it is stayed away from.
const (
	maxPolls = 30
	maxAway  = 2 * time.Second
	usualGap = 100 * time.Millisecond
)

// resume takes up a stream that ended before its response, as often as the server wants,
// within the time that the request has.
func (h *web) resume(ctx context.Context, x *evidence.Exchange, q request) []byte {
	for range maxPolls {
		if h.polled.last == "" || !x.Whole || ctx.Err() != nil {
			return nil
		}
		away := usualGap
		if h.polled.retry > 0 {
			away = min(h.polled.retry, maxAway)
		}
		select {
		case <-time.After(away):
		case <-ctx.Done():
			x.BodyTimeout = true
			return nil
		}
		header := http.Header{}
		for name, values := range q.header {
			header[name] = values
		}
		header["Accept"] = []string{"text/event-stream"}
		header["Last-Event-ID"] = []string{headerSafe(h.polled.last)}
		if header.Get("Mcp-Session-Id") == "" && h.lastSession != "" {
			header["Mcp-Session-Id"] = []string{h.lastSession}
		}
		again := request{method: http.MethodGet, address: q.address, forms: q.forms, header: header}
		res, err := h.once(ctx, again, &evidence.Exchange{})
		if err != nil {
			return nil
		}
		streams := res.StatusCode == http.StatusOK && strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream")
		var raw []byte
		if streams {
			raw = h.events(ctx, res.Body, x, q)
		}
		_ = res.Body.Close()
		if !streams || len(raw) > 0 {
			return raw
		}
	}
	return nil
}

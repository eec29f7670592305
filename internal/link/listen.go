package link

import (
	"context"
	"net/http"
	"time"

	"bouncer/internal/core/wire"
)

// listen holds the server's event stream. It returns true when the server
// should be looked at, false when it has no such stream.
func (l *HTTP) listen(ctx context.Context) bool {
	s := l.session.Load()
	if s == nil {
		return true
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, l.target.URL, nil)
	if err != nil {
		return false
	}
	req.Header = s.header.Clone()
	req.Header.Set("Accept", "text/event-stream")
	req.Header.Del("Content-Type")
	opened := time.Now()
	res, err := l.transport.RoundTrip(req)
	if err != nil {
		return pause(ctx, opened)
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNotFound && s.id != "" {
		l.session.CompareAndSwap(s, nil)
		return pause(ctx, opened)
	}
	if res.StatusCode != http.StatusOK || mediaType(res.Header) != "text/event-stream" {
		return false
	}
	events := wire.NewEventReader(res.Body, l.o.MessageLimit)
	for {
		ev, err := events.Next()
		if err != nil {
			return pause(ctx, opened)
		}
		f, err := wire.ReadFrame(ev.Data)
		if err != nil {
			continue
		}
		switch {
		case f.Kind == wire.Notification && f.Method == "notifications/tools/list_changed":
			return true
		case f.Kind == wire.Request:
			x := &httpExchange{link: l, res: res, header: s.header, stage: "stream"}
			x.refuse(ev.Data, f)
		}
	}
}

// pause keeps a stream that closes at once from being opened again and again.
func pause(ctx context.Context, opened time.Time) bool {
	if left := 5*time.Second - time.Since(opened); left > 0 {
		select {
		case <-time.After(left):
		case <-ctx.Done():
		}
	}
	return true
}

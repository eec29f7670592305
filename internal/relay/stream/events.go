package stream

import (
	"context"
	"net/http"
	"time"
)

// Events is an open stream of events to one agent.
type Events struct {
	w  http.ResponseWriter
	rc *http.ResponseController
}

// Open begins a stream as the answer to a request, and lifts the
// request's deadline from it.
func Open(w http.ResponseWriter) (*Events, error) {
	s := &Events{w: w, rc: http.NewResponseController(w)}
	if err := s.rc.SetReadDeadline(time.Time{}); err != nil {
		return nil, err
	}
	streamHeader(w)
	return s, nil
}

// Send sends one rendered event.
func (s *Events) Send(event []byte) error { return send(s.w, s.rc, event) }

// Feed is what an EventStream is served from.
type Feed struct {
	// Next returns the events that are there, whether they are the last ones, and
	// what is woken when there are more.
	Next func() (events [][]byte, last bool, more <-chan struct{})
	// Queue holds further events, each sent as it comes; nil for none.
	Queue <-chan []byte
	// Expires is when the agent's pass ends, and the stream with it; zero for never.
	Expires time.Time
	// Gone and Ended end the stream: its subject is gone, or the service stops.
	Gone, Ended <-chan struct{}
	// Farewell is sent when the stream ends on our side; nil for nothing.
	Farewell []byte
}

// Serve sends what the feed has, and signs of life in between, until the feed or
// the request ends, or the agent cannot be written to.
func (s *Events) Serve(ctx context.Context, feed Feed) {
	beat := time.NewTicker(keepAlive)
	defer beat.Stop()
	farewell := func() {
		if feed.Farewell != nil {
			_ = s.Send(feed.Farewell) // the stream ends either way
		}
	}
	for {
		events, last, more := feed.Next()
		for _, event := range events {
			if s.Send(event) != nil {
				return
			}
		}
		if last {
			return
		}
		if s.rc.Flush() != nil { // what was asked for is answered, if only with a header
			return
		}
		select {
		case <-more:
		case event := <-feed.Queue:
			if s.Send(event) != nil {
				return
			}
		case now := <-beat.C:
			if !feed.Expires.IsZero() && !now.Before(feed.Expires) {
				farewell()
				return
			}
			if s.Send([]byte(": \n\n")) != nil {
				return
			}
		case <-feed.Gone:
			farewell()
			return
		case <-feed.Ended:
			farewell()
			return
		case <-ctx.Done():
			return
		}
	}
}

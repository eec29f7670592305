// Package inside sends requests to the service as an agent, from within the service: they
// go the way that the agent's own would go, and meet the same rules, budgets, holds and
// credentials.
package inside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/wire"
)

// MaxAnswer is how much of an answer is kept, in bytes.
const MaxAnswer = 32 << 20

// ErrTooLarge says that an answer was larger than MaxAnswer.
var ErrTooLarge = fmt.Errorf("the answer is larger than %d MiB, and is not kept", MaxAnswer>>20)

// ErrBrokeOff says that an answer has no end.
var ErrBrokeOff = errors.New("the answer broke off")

// Serve serves a request as an agent, whose id it is given.
type Serve func(w http.ResponseWriter, r *http.Request, agentID string)

// Message is one message of an answer.
type Message struct {
	Raw []byte
	MS  float64 // when it came, in milliseconds since the request
}

// Answer is what was answered to a request.
type Answer struct {
	Status   int
	Header   http.Header
	Messages []Message
	MS       float64 // until the end, in milliseconds
}

// Send sends a message as an agent, with headers besides those that every request has. The
// error is ErrTooLarge, or says that the request could not be made.
func Send(ctx context.Context, serve Serve, agentID string, body []byte, header http.Header) (a Answer, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://bouncer.invalid/mcp", bytes.NewReader(body))
	if err != nil {
		return a, fmt.Errorf("make a request: %w", err)
	}
	for name, values := range header {
		r.Header[name] = values
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Accept", "application/json, text/event-stream")
	w := &writer{header: http.Header{}, began: time.Now()}
	serve(w, r, agentID)
	return w.answer()
}

// Stateless are the headers of a request of the stateless era.
func Stateless(method, subject string) http.Header {
	h := http.Header{}
	h.Set(wire.HeaderVersion, wire.NewestStateless)
	h.Set(wire.HeaderMethod, method)
	if subject != "" {
		h.Set(wire.HeaderName, wire.HeaderValue(subject))
	}
	return h
}

// writer takes what is answered, with the time of each part.
type writer struct {
	header http.Header
	began  time.Time

	mu     sync.Mutex // guards what follows
	status int
	body   []byte
	marks  []mark // where parts begin, and when they came
	over   bool
}

type mark struct {
	at int
	ms float64
}

// Header implements http.ResponseWriter.
func (w *writer) Header() http.Header { return w.header }

// WriteHeader implements http.ResponseWriter.
func (w *writer) WriteHeader(status int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.status == 0 {
		w.status = status
	}
}

// Write implements http.ResponseWriter.
func (w *writer) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.body)+len(p) > MaxAnswer {
		w.over = true
		return len(p), nil
	}
	w.marks = append(w.marks, mark{len(w.body), since(w.began)})
	w.body = append(w.body, p...)
	return len(p), nil
}

// Flush implements http.Flusher.
func (w *writer) Flush() {}

// SetReadDeadline and SetWriteDeadline are there for http.ResponseController; what is sent
// ends with its context.
func (w *writer) SetReadDeadline(time.Time) error  { return nil }
func (w *writer) SetWriteDeadline(time.Time) error { return nil }

func since(t time.Time) float64 { return float64(time.Since(t).Microseconds()) / 1000 }

// at is when the byte at a place came.
func (w *writer) at(place int) float64 {
	ms := 0.0
	for _, m := range w.marks {
		if m.at > place {
			break
		}
		ms = m.ms
	}
	return ms
}

// answer reads the messages of what was written.
func (w *writer) answer() (Answer, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	a := Answer{Status: w.status, Header: w.header, MS: since(w.began)}
	if w.over {
		return a, ErrTooLarge
	}
	if !strings.HasPrefix(w.header.Get("Content-Type"), "text/event-stream") {
		if len(w.body) > 0 {
			a.Messages = []Message{{Raw: w.body, MS: w.at(0)}}
		}
		return a, nil
	}
	reader := wire.NewEventReader(bytes.NewReader(w.body), MaxAnswer)
	for {
		event, err := reader.Next()
		if err != nil {
			return a, nil
		}
		if len(event.Data) > 0 {
			place := max(0, bytes.Index(w.body, event.Data))
			a.Messages = append(a.Messages, Message{Raw: bytes.Clone(event.Data), MS: w.at(place)})
		}
	}
}

// Response is the response among the messages of an answer, raw; ErrBrokeOff when there is
// none.
func (a Answer) Response() ([]byte, error) {
	for _, m := range a.Messages {
		if f, err := wire.ReadFrame(m.Raw); err == nil && f.Kind == wire.Response {
			return m.Raw, nil
		}
	}
	return nil, ErrBrokeOff
}

// Leave ends a session that was opened as an agent.
func Leave(ctx context.Context, serve Serve, agentID, session string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodDelete, "http://bouncer.invalid/mcp", http.NoBody)
	if err != nil {
		return fmt.Errorf("make a request: %w", err)
	}
	r.Header.Set("Mcp-Session-Id", session)
	serve(&writer{header: http.Header{}, began: time.Now()}, r, agentID)
	return nil
}

// Package notice tells an address outside of calls that wait for a decision, and of what
// became of them, so that those who decide need not look at the console: a chat, a pager.
// Notices are signed. Nothing is decided through them: they lead to the console.
package notice

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"sync"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
)

// Limits on notices.
const (
	maxQueued = 256
	attempts  = 3
	sendTime  = 5 * time.Second
	// MinKey is the shortest key, in bytes.
	MinKey = 16
)

// pauses are between two attempts.
var pauses = [attempts - 1]time.Duration{time.Second, 5 * time.Second}

// What a notice tells.
const (
	Waits   = "held"
	Decided = "decided"
	Test    = "test"
	// Of incidents.
	Began = "incident"
	Over  = "incident-over"
)

// Options are what a Sender needs. All are required but Pause.
type Options struct {
	// Address is where notices go; "" for nowhere.
	Address string
	Key     []byte
	// Console is the base URL under which people reach the console.
	Console string
	// Call returns a held call as whoever decides is shown it.
	Call func(ctx context.Context, id string) (apitype.HeldCall, []string, error)
	// Incident returns an incident; nil where only calls are told of.
	Incident func(ctx context.Context, id string) (team.Incident, error)
	Log      *slog.Logger
	// Pause waits; nil for the clock. Tests make it short.
	Pause func(context.Context, time.Duration) error
}

// Sender sends notices, one after the other. It is safe for concurrent use, and so is nil,
// which sends none. Close ends it.
type Sender struct {
	o      Options
	client *http.Client
	queue  chan note
	stop   context.CancelFunc
	ended  chan struct{}

	mu    sync.Mutex // guards state
	state apitype.NoticeState
}

type note struct{ what, id string }

// New returns a Sender that is running; nil without an address.
func New(o Options) *Sender {
	if o.Address == "" {
		return nil
	}
	if o.Pause == nil {
		o.Pause = pause
	}
	ctx, stop := context.WithCancel(context.Background())
	s := &Sender{
		o: o, queue: make(chan note, maxQueued), stop: stop, ended: make(chan struct{}),
		client: &http.Client{
			Timeout:       sendTime,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
	if u, err := url.Parse(o.Address); err == nil {
		s.state.To = u.Scheme + "://" + u.Host // the rest may be a secret
	}
	go s.run(ctx)
	return s
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Close ends the sender; what is queued is not sent any more.
func (s *Sender) Close() {
	if s == nil {
		return
	}
	s.stop()
	<-s.ended
	s.client.CloseIdleConnections()
}

// Note has a notice sent. It does not wait; when too many are queued, it is left out.
func (s *Sender) Note(what, id string) {
	if s == nil {
		return
	}
	select {
	case s.queue <- note{what, id}:
	default:
		s.failed("too many notices are queued, so that one was left out")
	}
}

// State tells how sending goes.
func (s *Sender) State() apitype.NoticeState {
	if s == nil {
		return apitype.NoticeState{}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.state
}

func (s *Sender) failed(why string) {
	s.o.Log.Error("a notice was not delivered", "why", why)
	now := time.Now().UTC()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state.Failed++
	s.state.Error, s.state.ErrorAt = why, &now
}

func (s *Sender) run(ctx context.Context) {
	defer close(s.ended)
	for {
		select {
		case n := <-s.queue:
			if err := s.deliver(ctx, n); err != nil && ctx.Err() == nil {
				s.failed(err.Error())
			}
		case <-ctx.Done():
			return
		}
	}
}

// Test sends a notice of nothing, once, and returns what came of it.
func (s *Sender) Test(ctx context.Context) (apitype.NoticeState, error) {
	if s == nil {
		return apitype.NoticeState{}, &team.ConflictError{
			Field: "held-notices", Why: "notices go nowhere", Hint: "start the service with held-notices and held-notices-key; see bouncer serve -h",
		}
	}
	n := apitype.HeldNotice{Notice: Test, At: time.Now().UTC(), Console: s.o.Console + "/held"}
	if err := s.post(ctx, n); err != nil {
		s.failed(err.Error())
		return s.State(), &team.ConflictError{Field: "held-notices", Why: "the notice was not taken: " + err.Error()}
	}
	s.sent()
	return s.State(), nil
}

func (s *Sender) sent() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state.Sent++
}

func (s *Sender) deliver(ctx context.Context, n note) error {
	out, err := s.describe(ctx, n)
	if err != nil {
		return err
	}
	for i := range attempts {
		if i > 0 {
			if err := s.o.Pause(ctx, pauses[i-1]); err != nil {
				return err
			}
		}
		if err = s.post(ctx, out); err == nil {
			s.sent()
			return nil
		}
		var refused *refusedError
		if errors.As(err, &refused) && refused.status < 500 && refused.status != http.StatusTooManyRequests {
			return err // it would be refused again
		}
	}
	return fmt.Errorf("%w, %d times", err, attempts)
}

// describe makes a notice of what there is to tell.
func (s *Sender) describe(ctx context.Context, n note) (out apitype.HeldNotice, err error) {
	if n.what == Began || n.what == Over {
		i, err := s.o.Incident(ctx, n.id)
		if err != nil {
			return out, fmt.Errorf("look up the incident: %w", err)
		}
		return apitype.HeldNotice{
			Notice: n.what, At: time.Now().UTC(), Incident: &i, Console: s.o.Console + "/incidents/" + i.ID, Command: "bouncer incident show " +
				i.ID,
		}, nil
	}
	call, deciders, err := s.o.Call(ctx, n.id)
	if err != nil {
		return out, fmt.Errorf("look up the held call: %w", err)
	}
	return apitype.HeldNotice{
		Notice: n.what, At: time.Now().UTC(), Call: &call, Deciders: deciders, Console: s.o.Console + "/held",
		Command: "bouncer held show " + call.ID,
	}, nil
}

// refusedError is an answer that does not take a notice.
type refusedError struct{ status int }

func (e *refusedError) Error() string {
	return fmt.Sprintf("it was answered with %d %s", e.status, http.StatusText(e.status))
}

func (s *Sender) post(ctx context.Context, n apitype.HeldNotice) error {
	body, err := json.Marshal(n)
	if err != nil {
		return fmt.Errorf("write the notice: %w", err)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.o.Address, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("write the notice: %w", err)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "bouncer")
	sign(req.Header, s.o.Key, req.Method, s.o.Address, body, n.At)
	res, err := s.client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // the address may hold a secret
		}
		return fmt.Errorf("the address was not reached: %w", err)
	}
	defer res.Body.Close()
	_, _ = io.CopyN(io.Discard, res.Body, 64<<10) // so that the connection can be kept
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return &refusedError{res.StatusCode}
	}
	return nil
}

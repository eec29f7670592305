package relay

import (
	"errors"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/wire"
)

var emptyRules = rules.NewSet(nil)

// keepAlive is the time between comments on a silent stream, which keep
// proxies in between from closing it.
const keepAlive = 20 * time.Second

// writeLimit is how long one write to an agent may take.
const writeLimit = 30 * time.Second

// answer is the reply to one request on its way to the agent. It stays a plain
// JSON reply for as long as the response is all there is to send, and becomes
// an event stream with the first message before that, or after a while of
// silence. Its methods are safe for concurrent use.
type answer struct {
	w            http.ResponseWriter
	json, stream bool     // what the agent accepts
	keep         bool     // part of a batch: kept instead of written
	stateless    bool     // errors have a status of their own
	s            *Session // whose streams can be resumed; nil for those that cannot
	line         *line    // where everything goes in the oldest transport; nil in others

	mu    sync.Mutex
	kept  []byte // the kept response
	rc    *http.ResponseController
	buf   []byte
	timer *time.Timer // sends a sign of life
	no    int         // number of the tape
	tape  *tape
	begun bool  // the reply is a stream
	ended bool  // nothing may be written any more
	away  bool  // interrupted: the rest is only taped
	err   error // the first failed write; later ones are skipped
}

// linger makes the reply send signs of life when nothing else is sent.
func (a *answer) linger() {
	if a.keep || !a.stream || a.line != nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.timer = time.AfterFunc(quietFor, func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.ended || a.err != nil {
			return
		}
		a.begin()
		if a.err == nil {
			a.err = send(a.w, a.rc, []byte(": \n\n"))
		}
		a.timer.Reset(keepAlive)
	})
}

// before sends a message that precedes the response. It returns false when there
// is no way to do that.
func (a *answer) before(frame []byte) bool {
	if a.line != nil {
		return a.line.send(frame)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.keep || !a.stream || a.ended {
		return false
	}
	a.event(frame, false)
	return true
}

func (a *answer) event(frame []byte, last bool) {
	a.begin()
	if a.tape != nil {
		// Also for an agent that has lost the stream: it may take it up again.
		ev := a.tape.add(a.no, frame, last)
		if a.err == nil {
			a.err = send(a.w, a.rc, ev)
		}
		return
	}
	if a.err == nil {
		a.buf = wire.AppendEvent(a.buf[:0], "", frame)
		a.err = send(a.w, a.rc, a.buf)
	}
}

func (a *answer) begin() {
	if a.begun {
		return
	}
	a.begun = true
	a.rc = http.NewResponseController(a.w)
	streamHeader(a.w)
	if a.s != nil && wire.HasEventIDs(a.s.revision) {
		a.no, a.tape = a.s.newTape()
		a.err = send(a.w, a.rc, a.tape.add(a.no, nil, false))
	}
}

// canPause reports whether the agent can be told to come back for the rest of
// its answer (MCP 2025-11-25, transports).
func (a *answer) canPause() bool {
	return a.s != nil && a.stream && !a.keep && a.line == nil && wire.HasEventIDs(a.s.revision)
}

// pause tells the agent to come back after a while for the rest, which goes onto
// the tape of the stream. The reply ends when the caller returns.
func (a *answer) pause(retry time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ended || a.away {
		return
	}
	a.begin()
	if a.err == nil {
		a.err = send(a.w, a.rc, []byte("retry: "+strconv.FormatInt(retry.Milliseconds(), 10)+"\n\n"))
	}
	a.away = true
	if a.err == nil {
		a.err = errAway
	}
}

var errAway = errors.New("the reply was interrupted")

// final sends the response. It is the last message.
func (a *answer) final(frame []byte) { a.last(frame, http.StatusOK) }

// refuse sends an error as the response.
func (a *answer) refuse(id []byte, code int, message string, data any) {
	a.last(wire.AppendError(nil, id, code, message, data), a.status(code))
}

// status is the HTTP status that an error goes out with.
func (a *answer) status(code int) int {
	if !a.stateless {
		return http.StatusOK
	}
	switch code {
	case wire.CodeMethodNotFound:
		return http.StatusNotFound
	case wire.CodeHeaderMismatch, wire.CodeNoCapability, wire.CodeNoRevision, wire.CodeInvalidRequest, wire.CodeParse:
		return http.StatusBadRequest
	}
	return http.StatusOK
}

func (a *answer) last(frame []byte, status int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case a.keep:
		a.kept = append([]byte(nil), frame...)
	case a.ended:
	case a.line != nil:
		a.line.send(frame)
	case a.begun || (!a.json && a.stream && status == http.StatusOK):
		a.event(frame, true)
	default:
		a.err = writeJSON(a.w, status, frame)
	}
	a.close()
}

func (a *answer) close() {
	a.ended = true
	if a.timer != nil {
		a.timer.Stop()
	}
}

// end sends out what is written, so that what is done afterwards costs the
// agent nothing. A reply without a response, for a call that the agent
// cancelled, ends as an empty stream.
func (a *answer) end() {
	if a.line != nil || a.keep {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.away {
		return
	}
	if !a.ended && !a.begun && a.stream {
		a.begin()
	}
	a.close()
	if a.err == nil {
		a.err = http.NewResponseController(a.w).Flush()
	}
}

// relayed sends the response in src as the last message, with another id. The
// plain reply is written in three parts, since a copy of a large one would cost
// more than all else that is done with it.
func (a *answer) relayed(src []byte, f wire.Frame, id []byte) {
	a.mu.Lock()
	if a.keep || a.ended || a.line != nil || a.begun || !a.json {
		a.mu.Unlock()
		a.final(wire.AppendWithID(make([]byte, 0, len(src)+len(id)), src, f, id))
		return
	}
	defer a.mu.Unlock()
	a.err = writeJSON(a.w, http.StatusOK, src[:f.ID.Start], id, src[f.ID.End:])
	a.close()
}

func writeJSON(w http.ResponseWriter, status int, parts ...[]byte) error {
	size := 0
	for _, p := range parts {
		size += len(p)
	}
	h := w.Header()
	h["Content-Type"] = contentJSON
	h["Cache-Control"] = noStore
	h["Content-Length"] = []string{strconv.Itoa(size)}
	w.WriteHeader(status)
	var rc *http.ResponseController
	if size > smallBody { // a smaller one fits into the connection's buffers, whatever the reader does
		rc = http.NewResponseController(w)
		if err := rc.SetWriteDeadline(time.Now().Add(writeLimit)); err != nil {
			return err
		}
	}
	for _, p := range parts {
		if _, err := w.Write(p); err != nil {
			return err
		}
	}
	if rc == nil {
		return nil
	}
	return rc.SetWriteDeadline(time.Time{}) // or it would cut a later answer
}

const smallBody = 32 << 10

var (
	contentJSON = []string{"application/json"}
	noStore     = []string{"no-store"}
)

func streamHeader(w http.ResponseWriter) {
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-cache, no-transform")
	h.Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
}

// send writes and flushes, with a limit on how long a slow reader may hold it.
func send(w http.ResponseWriter, rc *http.ResponseController, b []byte) error {
	if err := rc.SetWriteDeadline(time.Now().Add(writeLimit)); err != nil {
		return err
	}
	if _, err := w.Write(b); err != nil {
		return err
	}
	if err := rc.Flush(); err != nil {
		return err
	}
	return rc.SetWriteDeadline(time.Time{})
}

// accepts reports whether the Accept header allows a media type; a missing
// header allows every one (RFC 9110, section 12.5.1).
func accepts(h http.Header, media string) bool {
	values := h["Accept"]
	if len(values) == 0 {
		return media == "application/json"
	}
	major, _, _ := strings.Cut(media, "/")
	for _, v := range values {
		if strings.Contains(v, media) || strings.Contains(v, "*/*") || strings.Contains(v, major+"/*") {
			return true
		}
	}
	return false
}

func jsonBody(h http.Header) bool {
	ct := h.Get("Content-Type")
	if ct == "application/json" {
		return true
	}
	media, _, _ := strings.Cut(ct, ";")
	return strings.EqualFold(strings.TrimSpace(media), "application/json")
}

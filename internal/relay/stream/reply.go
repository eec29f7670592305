// Package stream writes to agents: a Reply that is plain JSON while the answer is all
// there is and becomes an event stream otherwise, and Events, a stream that can be
// taken up again where it broke off.
package stream

import (
	"errors"
	"net/http"
	"strconv"
	"sync"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/relay/session"
)

// keepAlive is the time between comments on a silent stream, which keep
// proxies in between from closing it.
const keepAlive = 20 * time.Second

// Reply is the reply to one request on its way to the agent. It stays a plain
// JSON reply for as long as the response is all there is to send, and becomes
// an event stream with the first message before that, or after a while of
// silence. Its methods are safe for concurrent use.
type Reply struct {
	Writer       http.ResponseWriter
	JSON, Stream bool                  // what the agent accepts
	Kept         bool                  // part of a batch: kept instead of written
	Stateless    bool                  // errors have a status of their own
	Session      *session.Session      // whose streams can be resumed; nil for those that cannot
	Request      []byte                // raw id of the request, until the reply is over; for streams that can be resumed
	Legacy       *session.LegacyStream // where everything goes in the oldest transport; nil in others

	mu     sync.Mutex // guards what follows; may be held over one bounded write to the agent
	Frame  []byte     // the kept response
	rc     *http.ResponseController
	buf    []byte
	timer  *time.Timer // sends a sign of life
	number int         // number of the replay
	replay *session.Replay
	begun  bool  // the reply is a stream
	ended  bool  // nothing may be written any more
	away   bool  // interrupted: the rest is only taped
	err    error // the first failed write; later ones are skipped
}

// KeepAlive makes the reply send signs of life when nothing else is sent.
func (a *Reply) KeepAlive() {
	if a.Kept || !a.Stream || a.Legacy != nil {
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
			a.err = send(a.Writer, a.rc, []byte(": \n\n"))
		}
		a.timer.Reset(keepAlive)
	})
}

// Before sends a message that precedes the response. It returns false when there
// is no way to do that.
func (a *Reply) Before(frame []byte) bool {
	if a.Legacy != nil {
		return a.Legacy.Send(frame)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.Kept || !a.Stream || a.ended {
		return false
	}
	a.event(frame, false)
	return true
}

func (a *Reply) event(frame []byte, last bool) {
	a.begin()
	if a.replay != nil {
		// Also for an agent that has lost the stream: it may take it up again.
		ev := a.replay.Add(a.number, frame, last)
		if a.err == nil {
			a.err = send(a.Writer, a.rc, ev)
		}
		return
	}
	if a.err == nil {
		a.buf = wire.AppendEvent(a.buf[:0], "", frame)
		a.err = send(a.Writer, a.rc, a.buf)
	}
}

func (a *Reply) begin() {
	if a.begun {
		return
	}
	a.begun = true
	a.rc = http.NewResponseController(a.Writer)
	streamHeader(a.Writer)
	if a.Session != nil && wire.HasEventIDs(a.Session.Revision) {
		a.number, a.replay = a.Session.NewReplay(a.Request)
		a.err = send(a.Writer, a.rc, a.replay.Add(a.number, nil, false))
	}
}

// CanInterrupt reports whether the agent can be told to come back for the rest of
// its answer (MCP 2025-11-25, transports).
func (a *Reply) CanInterrupt() bool {
	return a.Session != nil && a.Stream && !a.Kept && a.Legacy == nil && wire.HasEventIDs(a.Session.Revision)
}

// Interrupt tells the agent to come back after a while for the rest, which goes onto
// the replay of the stream. The reply ends when the caller returns.
func (a *Reply) Interrupt(retry time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ended || a.away {
		return
	}
	a.begin()
	if a.err == nil {
		a.err = send(a.Writer, a.rc, []byte("retry: "+strconv.FormatInt(retry.Milliseconds(), 10)+"\n\n"))
	}
	a.away = true
	if a.err == nil {
		a.err = errAway
	}
}

var errAway = errors.New("the reply was interrupted")

// Result sends the response. It is the last message.
func (a *Reply) Result(frame []byte) { a.Last(frame, http.StatusOK) }

// Refuse sends an error as the response.
func (a *Reply) Refuse(id []byte, code int, message string, data any) {
	a.Last(wire.AppendError(nil, id, code, message, data), a.StatusOf(code))
}

// StatusOf is the HTTP status that an error goes out with.
func (a *Reply) StatusOf(code int) int {
	if !a.Stateless {
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

func (a *Reply) Last(frame []byte, status int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case a.Kept:
		a.Frame = append([]byte(nil), frame...)
	case a.ended:
	case a.Legacy != nil:
		a.Legacy.Send(frame)
	case a.begun || (!a.JSON && a.Stream && status == http.StatusOK):
		a.event(frame, true)
	default:
		a.err = WriteJSON(a.Writer, status, frame)
	}
	a.close()
}

func (a *Reply) close() {
	a.ended = true
	if a.timer != nil {
		a.timer.Stop()
	}
}

// End sends out what is written, so that what is done afterwards costs the
// agent nothing. A reply without a response, for a call that the agent
// cancelled, ends as an empty stream.
func (a *Reply) End() {
	if a.Legacy != nil || a.Kept {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.away {
		return
	}
	if !a.ended && !a.begun && a.Stream {
		a.begin()
	}
	a.close()
	if a.err == nil {
		a.err = http.NewResponseController(a.Writer).Flush()
	}
}

// Relay sends the response in src as the last message, with another id. The
// plain reply is written in three parts, since a copy of a large one would cost
// more than all else that is done with it.
func (a *Reply) Relay(src []byte, f wire.Frame, id []byte) {
	a.mu.Lock()
	if a.Kept || a.ended || a.Legacy != nil || a.begun || !a.JSON {
		a.mu.Unlock()
		a.Result(wire.AppendWithID(make([]byte, 0, len(src)+len(id)), src, f, id))
		return
	}
	defer a.mu.Unlock()
	a.err = WriteJSON(a.Writer, http.StatusOK, src[:f.ID.Start], id, src[f.ID.End:])
	a.close()
}

func WriteJSON(w http.ResponseWriter, status int, parts ...[]byte) error {
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
		if err := rc.SetWriteDeadline(time.Now().Add(session.WriteLimit)); err != nil {
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
	if err := rc.SetWriteDeadline(time.Now().Add(session.WriteLimit)); err != nil {
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

// quietFor is how long a call may be silent before its reply becomes a stream
// that is kept alive.
const quietFor = 5 * time.Second

package peer

import (
	"bytes"
	"cmp"
	"net/http"
	"time"
)

// Recorded is an answer that is kept instead of sent. It implements http.ResponseWriter, and is
// not for concurrent use.
type Recorded struct {
	Body   bytes.Buffer
	header http.Header
	status int
}

// Header implements http.ResponseWriter.
func (r *Recorded) Header() http.Header {
	if r.header == nil {
		r.header = http.Header{}
	}
	return r.header
}

// WriteHeader implements http.ResponseWriter.
func (r *Recorded) WriteHeader(status int) {
	if r.status == 0 {
		r.status = status
	}
}

// Write implements http.ResponseWriter.
func (r *Recorded) Write(raw []byte) (int, error) {
	r.WriteHeader(http.StatusOK)
	return r.Body.Write(raw)
}

// Flush does nothing: there is nobody yet to whom anything could be sent.
func (r *Recorded) Flush() {}

// SetWriteDeadline does nothing.
func (r *Recorded) SetWriteDeadline(time.Time) error { return nil }

// Status is that of the answer.
func (r *Recorded) Status() int { return cmp.Or(r.status, http.StatusOK) }

// Send sends the answer.
func (r *Recorded) Send(w http.ResponseWriter) {
	for name, values := range r.header {
		w.Header()[name] = values
	}
	w.WriteHeader(r.Status())
	_, _ = w.Write(r.Body.Bytes()) // the reader may have gone
}

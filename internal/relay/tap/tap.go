// Package tap has the flight recorder hear what goes between agents and Bouncer: a Writer
// stands in for the one that an answer is written to, and tells an ear what goes by.
package tap

import (
	"bytes"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/link"
)

// lines numbers the conversations of agents: sessions, and requests without one.
var lines atomic.Uint64

// Line returns the number of another conversation.
func Line() uint64 { return lines.Add(1) }

// maxBody is how much of an answer is kept until it is told; a recorder keeps no more.
const maxBody = 2 << 10

// Writer writes an answer, and tells an ear of it. It is used by one goroutine at a time,
// as an http.ResponseWriter is.
type Writer struct {
	http.ResponseWriter
	Line uint64 // of the conversation

	ear    link.Ear
	method string
	began  time.Time
	status int
	stream bool
	body   *[]byte // the beginning of an answer that is no stream; nil for none yet
	size   int     // of that answer so far, in bytes
}

var bodies = sync.Pool{New: func() any {
	b := make([]byte, 0, maxBody)
	return &b
}}

// New returns a writer for the answer to a request; Done ends it.
func New(w http.ResponseWriter, ear link.Ear, line uint64, method string) *Writer {
	return &Writer{ResponseWriter: w, Line: line, ear: ear, method: method, began: time.Now()}
}

// Asked tells of the body of a request.
func (w *Writer) Asked(body []byte) { w.ear.Frame(w.Line, link.Sent, body, len(body)) }

// Unwrap is for http.ResponseController.
func (w *Writer) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// WriteHeader implements http.ResponseWriter.
func (w *Writer) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
		w.stream = strings.HasPrefix(w.Header().Get("Content-Type"), "text/event-stream")
		w.ear.Answer(w.Line, w.method, status, w.Header(), time.Since(w.began))
	}
	w.ResponseWriter.WriteHeader(status)
}

// Write implements http.ResponseWriter.
func (w *Writer) Write(p []byte) (int, error) {
	if w.status == 0 {
		w.WriteHeader(http.StatusOK)
	}
	if w.stream {
		if message := dataOf(p); len(message) > 0 {
			w.ear.Frame(w.Line, link.Received, message, len(message))
		}
		return w.ResponseWriter.Write(p)
	}
	if w.body == nil {
		w.body = bodies.Get().(*[]byte)
		*w.body = (*w.body)[:0]
	}
	w.size += len(p)
	*w.body = append(*w.body, p[:min(len(p), maxBody-len(*w.body))]...)
	return w.ResponseWriter.Write(p)
}

// Status is the status that the answer has; 0 while there is none.
func (w *Writer) Status() int { return w.status }

// Done tells of an answer that is no stream. Nothing may be written after it.
func (w *Writer) Done() {
	if w.body == nil {
		return
	}
	w.ear.Frame(w.Line, link.Received, *w.body, w.size)
	bodies.Put(w.body)
	w.body = nil
}

// endpoint begins the event of HTTP+SSE (2024-11-05) that says where messages go.
var endpoint = []byte("event: endpoint\n")

// dataOf is the data of an event, which is written as a whole; nil for a sign of life, and
// for an address for messages: that is no message, and it has the pass in it when the
// agent shows its pass in the path.
func dataOf(event []byte) []byte {
	if bytes.HasPrefix(event, endpoint) {
		return nil
	}
	at := bytes.Index(event, []byte("data:"))
	if at < 0 || at > 0 && event[at-1] != '\n' {
		return nil
	}
	return bytes.TrimSpace(event[at+len("data:"):])
}

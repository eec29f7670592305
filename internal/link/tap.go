package link

import (
	"net/http"
	"time"
)

// Heard says what a Tap is told of.
type Heard byte

// What a Tap is told of.
const (
	Sent     Heard = iota + 1 // a message to the server
	Received                  // a message of the server
	Noise                     // something of a process that is no message
	Stderr                    // what a process wrote to standard error
	State                     // the connection is in another state
	Broke                     // a request failed below HTTP
)

// Tap hands out an ear for each server, when a conversation with it is made, and for each
// agent, at every request.
type Tap interface {
	// Of returns the ear for a server by its name, or for an agent by its id; nil for none.
	Of(subject string) Ear
}

// Ear is told what goes over the conversations with one server or agent, as it goes. An
// agent's requests are Sent, and what Bouncer answers is Received. It is called
// on the hot path: it must be quick, must not block, and must not keep the bytes. It is
// safe for concurrent use. Nothing that it is told is masked.
type Ear interface {
	// Frame is told of a message, or of words; line tells conversations apart. Size is that
	// of the whole, in bytes, of which text may be only the beginning.
	Frame(line uint64, what Heard, text []byte, size int)
	// Answer is told of the head of an answer over HTTP.
	Answer(line uint64, method string, status int, header http.Header, took time.Duration)
}

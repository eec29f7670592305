package link

import (
	"context"
	"net/http"
	"sync/atomic"

	"bouncer/internal/locker"
)

// Given is one credential as it is attached to a request: a header or a query
// parameter.
type Given struct {
	Header, Query string
	Value         locker.Secret // with its scheme word, where it has one
	// Sign makes the value of the header for one request instead; nil for none.
	Sign func(method, address string) (string, error)
}

// Credentials gives what requests to a server are sent with, where that changes:
// tokens that are renewed, values that are read elsewhere, several at once.
// Implementations are safe for concurrent use.
type Credentials interface {
	// Now returns what to attach. The error is a *Failure, or that of the context.
	Now(ctx context.Context) ([]Given, error)
	// Refused is told that the server turned a request away (401 or 403) that was
	// sent with what Now had returned. It reports whether Now has something else
	// by now; a *Failure explains the refusal better than the status does.
	Refused(ctx context.Context, sent []Given, status int, h http.Header) (again bool, err error)
}

// Var is a variable of a process that carries a secret, or the path of a file
// that holds it.
type Var struct {
	Name  string
	Value locker.Secret
	File  bool
}

// Used tells when something was last sent, in milliseconds since 1970.
type Used = *atomic.Int64

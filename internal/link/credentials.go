package link

import (
	"context"
	"net/http"
	"sync/atomic"
	"time"

	"bouncer/internal/locker"
)

// Attachment is one credential as it is attached to a request: a header or a query
// parameter.
type Attachment struct {
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
	Now(ctx context.Context) ([]Attachment, error)
	// Refused is told that the server turned a request away (401 or 403) that was
	// sent with what Now had returned. It reports whether Now has something else
	// by now; a *Failure explains the refusal better than the status does.
	Refused(ctx context.Context, sent []Attachment, status int, h http.Header) (again bool, err error)
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

// Credential is what a connection to a server is given: a single value that is
// kept in the locker goes straight into the headers or the variable; everything
// else is asked for when it is needed. The zero value is none.
type Credential struct {
	Secret locker.Secret
	// Live gives what requests are sent with besides; nil for nothing.
	Live Credentials
	// Vars gives the variables of a process that carry secrets; nil for none.
	Vars func(context.Context) ([]Var, error)
	// ClientKey gives the private key (PEM) of the client certificate when a
	// connection is made; nil for none.
	ClientKey func(context.Context) (locker.Secret, error)
	Used      Used
	// Ends is when Secret ends, where it says so itself.
	Ends time.Time
	// Fingerprint tells credentials apart. It holds no secret.
	Fingerprint string
}

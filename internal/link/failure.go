package link

import (
	"context"
	"errors"
	"net/http"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
)

// Failure is an error with its finding.
type Failure struct {
	diagnosis.Finding
	// Lost is set when the server no longer knows the session.
	Lost bool
	// Refused is set when the request was turned away before it was executed.
	Refused bool
	// Status is the HTTP status of the answer, 0 when there was none.
	Status int
	// SignIn is an address where somebody can supply what is missing; "" for none.
	SignIn string
	// Challenge is the WWW-Authenticate header of a refusal, as it came.
	Challenge http.Header
	Err       error
}

// NewFailure returns a failure with a finding of its own.
func NewFailure(f diagnosis.Finding, signIn string, cause error) *Failure {
	return &Failure{Finding: f, SignIn: signIn, Refused: true, Err: cause}
}

// Found returns the finding.
func (f *Failure) Found() diagnosis.Finding { return f.Finding }

func (f *Failure) Error() string { return f.Finding.Message }

func (f *Failure) Unwrap() error { return f.Err }

func IsTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.Is(err, context.DeadlineExceeded) || (errors.As(err, &t) && t.Timeout())
}

// ServerError is a server's own error as the answer to a request.
type ServerError struct{ wire.RPCError }

func (r *ServerError) Error() string { return r.Message }

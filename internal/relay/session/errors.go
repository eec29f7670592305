package session

import (
	"errors"
)

var (
	ErrShutdown = errors.New("the service is shutting down")
	ErrRevoked  = errors.New("the pass is no longer valid")
	ErrIdle     = errors.New("the session was idle for too long")
	ErrLeft     = errors.New("the agent ended its session")
	ErrCanceled = errors.New("the agent cancelled the call")
)

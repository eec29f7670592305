package team

import (
	"fmt"
	"time"

	"bouncer/internal/core/diagnosis"
)

// ThrottledError says that a further try has to wait.
type ThrottledError struct{ For time.Duration }

func (e *ThrottledError) Error() string {
	return fmt.Sprintf("too many failed tries; wait %s", e.For.Round(time.Second))
}

// ProbeError says why a server was not registered or altered: it could not be
// reached as described.
type ProbeError struct {
	Finding diagnosis.Finding
	Stages  []Stage
}

func (e *ProbeError) Error() string { return e.Finding.Message }

// SignInProblem is why a sign-in failed, to be shown to whoever tried.
type SignInProblem struct {
	What string `json:"what"`
	Hint string `json:"hint"`
	Step string `json:"step,omitempty"`
	Code string `json:"code,omitempty" doc:"error code of OAuth"`
}

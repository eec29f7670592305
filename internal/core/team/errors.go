package team

import (
	"fmt"
	"time"

	"bouncer/internal/core/diagnosis"
)

// ThrottledError says that a further try has to wait.
type ThrottledError struct {
	For time.Duration
	// Why is what there is too much of; "" for failed tries.
	Why string
}

func (e *ThrottledError) Error() string {
	why := e.Why
	if why == "" {
		why = "too many failed tries"
	}
	return fmt.Sprintf("%s; wait %s", why, max(e.For, time.Second).Round(time.Second))
}

// ProbeError says why a server was not registered or altered: it could not be
// reached as described.
type ProbeError struct {
	// What failed, and what stays as it was; "" for a registration or an alteration.
	What    string
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

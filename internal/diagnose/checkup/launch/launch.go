// Package launch looks at a server that is a program: it starts a process of its own,
// speaks with it, and reads what it writes, computes, listens on, and ends with.
package launch

import (
	"context"

	"bouncer/internal/diagnose/checkup/exam"
)

// run is a checkup of a program.
type run struct{ *exam.Run }

// Look starts the program and looks at it, as far as it goes.
func Look(ctx context.Context, r *exam.Run) error { return run{r}.lookAtProcess(ctx) }

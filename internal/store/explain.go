package store

import (
	"errors"
	"fmt"

	"bouncer/internal/core/team"
)

// Explain turns the store's errors into the team's: nothing there, taken, altered.
func Explain(err error, kind, name string) error {
	switch {
	case errors.Is(err, ErrNotFound):
		return &team.NotFoundError{Kind: kind, Name: name}
	case errors.Is(err, ErrAltered):
		return &team.ConflictError{
			Field: "version",
			Why:   fmt.Sprintf("%s %q was altered by somebody else since you read it", kind, name),
			Hint:  "look at it again, and repeat what you want",
		}
	case errors.Is(err, ErrTaken):
		return &team.ConflictError{
			Field: "name",
			Why:   fmt.Sprintf("there is a %s %q already", kind, name),
			Hint:  "choose another name, or change the one that is there",
		}
	}
	return err
}

package store

import (
	"errors"
	"fmt"

	"bouncer/internal/core/team"
)

// Explain turns the store's errors into the team's: nothing there, taken.
func Explain(err error, kind, name string) error {
	switch {
	case errors.Is(err, ErrNotFound):
		return &team.NotFoundError{Kind: kind, Name: name}
	case errors.Is(err, ErrTaken):
		return &team.ConflictError{
			Field: "name",
			Why:   fmt.Sprintf("there is a %s %q already", kind, name),
			Hint:  "choose another name, or change the one that is there",
		}
	}
	return err
}

package team

import (
	"github.com/oklog/ulid/v2"
)

// NewID returns a new ULID.
func NewID() string { return ulid.Make().String() }

package locker

import (
	"log/slog"

	"bouncer/internal/core/mask"
)

// Secret is a value that cannot be printed, logged or marshalled by accident:
// every such way gives mask.Mark. Reveal is the only way to the value. The zero
// Secret is empty.
type Secret struct{ value *string }

// NewSecret wraps a value.
func NewSecret(value string) Secret { return Secret{&value} }

// Reveal returns the value, for the one place that sends it.
func (s Secret) Reveal() string {
	if s.value == nil {
		return ""
	}
	return *s.value
}

// Empty reports whether there is no value.
func (s Secret) Empty() bool { return s.Reveal() == "" }

func (s Secret) String() string { return mask.Mark }

func (s Secret) GoString() string { return mask.Mark }

func (s Secret) MarshalText() ([]byte, error) { return []byte(mask.Mark), nil }

// LogValue implements slog.LogValuer.
func (s Secret) LogValue() slog.Value { return slog.StringValue(mask.Mark) }

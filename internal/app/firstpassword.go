package app

import (
	"context"
	"errors"
	"io"
	"strings"

	"bouncer/internal/locker"
)

// firstPassword reads the first admin's password where the setting says; nil for a
// one-time password.
func (s Settings) firstPassword(ctx context.Context) func() (string, error) {
	switch s.FirstPassword {
	case "":
		return nil
	case "stdin":
		return func() (string, error) {
			if s.Stdin == nil {
				return "", errors.New("there is no standard input")
			}
			raw, err := io.ReadAll(io.LimitReader(s.Stdin, 4<<10))
			return strings.TrimRight(string(raw), "\r\n"), err
		}
	}
	return func() (string, error) {
		v, err := locker.Outside(ctx, s.FirstPassword)
		return strings.TrimRight(v.Reveal(), "\r\n"), err
	}
}

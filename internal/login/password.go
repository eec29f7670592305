// Package login lets people in: passwords, logins of browsers and of the command
// line, invitations, and sign-in through the identity provider.
package login

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Bounds of a password, in bytes.
const (
	MinPassword = 10
	MaxPassword = 200
)

// OneTimePassword returns a random password for a first sign-in.
func OneTimePassword() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// CheckPassword says what is wrong with a new password; nil when nothing is.
func CheckPassword(name, password string) error {
	switch {
	case len(password) < MinPassword:
		return fmt.Errorf("is shorter than %d characters", MinPassword)
	case len(password) > MaxPassword:
		return fmt.Errorf("is longer than %d bytes", MaxPassword)
	case strings.Contains(strings.ToLower(password), strings.ToLower(name)):
		return errors.New("contains the name it belongs to")
	}
	return nil
}

// Passwords hashes and verifies passwords with argon2id (RFC 9106, second
// recommended option). It bounds how many are worked on at once, since each
// takes 64 MiB.
type Passwords struct{ slots chan struct{} }

// NewPasswords returns a ready Passwords.
func NewPasswords() *Passwords { return &Passwords{slots: make(chan struct{}, 2)} }

const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
)

// Hash returns the encoded hash of a password.
func (p *Passwords) Hash(ctx context.Context, password string) (string, error) {
	var salt [16]byte
	_, _ = rand.Read(salt[:])
	sum, err := p.derive(ctx, password, salt[:], argonTime, argonMemory, argonThreads)
	if err != nil {
		return "", err
	}
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, enc.EncodeToString(salt[:]), enc.EncodeToString(sum)), nil
}

// Verify reports whether the password belongs to the encoded hash. An unknown
// person is verified against an empty hash: it takes the same time and fails.
func (p *Passwords) Verify(ctx context.Context, password, encoded string) (bool, error) {
	if len(password) > MaxPassword {
		return false, nil
	}
	var version, memory, passes int
	var threads uint8
	var salt, want []byte
	parts := strings.Split(encoded, "$")
	known := len(parts) == 6 && parts[1] == "argon2id"
	if known {
		_, err1 := fmt.Sscanf(parts[2], "v=%d", &version)
		_, err2 := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads)
		var err3, err4 error
		salt, err3 = base64.RawStdEncoding.DecodeString(parts[4])
		want, err4 = base64.RawStdEncoding.DecodeString(parts[5])
		known = errors.Join(err1, err2, err3, err4) == nil && version == argon2.Version && len(want) == 32
	}
	if !known {
		memory, passes, threads, salt, want = argonMemory, argonTime, argonThreads, make([]byte, 16), make([]byte, 32)
	}
	sum, err := p.derive(ctx, password, salt, uint32(passes), uint32(memory), threads)
	if err != nil {
		return false, err
	}
	return subtle.ConstantTimeCompare(sum, want) == 1 && known, nil
}

func (p *Passwords) derive(ctx context.Context, password string, salt []byte, passes, memory uint32, threads uint8) ([]byte, error) {
	select {
	case p.slots <- struct{}{}:
		// The work area is large and needed once: it is given back at once.
		defer func() { debug.FreeOSMemory(); <-p.slots }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return argon2.IDKey([]byte(password), salt, passes, memory, threads, 32), nil
}

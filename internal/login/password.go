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

	"bouncer/internal/gate"
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

// Cost is what hashing one password takes (argon2id, RFC 9106).
type Cost struct {
	Passes, MemoryKiB uint32
	Threads           uint8
}

// DefaultCost is the second recommended option of RFC 9106.
var DefaultCost = Cost{Passes: 3, MemoryKiB: 64 << 10, Threads: 4}

// Passwords hashes and verifies passwords with argon2id. It bounds how many are
// worked on at once, since each takes as much memory as its cost says, and takes
// those who wait in turn by where they come from. A full queue is a
// *gate.FullError.
type Passwords struct {
	cost  Cost
	queue *gate.Queue
}

// How many passwords are worked on at a time, and how many may wait, from one
// address and in all.
const (
	hashesAtOnce  = 2
	hashesFromOne = 8
	hashesWaiting = 24
)

// NewPasswords returns a ready Passwords; the zero Cost is DefaultCost.
func NewPasswords(cost Cost) *Passwords {
	if cost == (Cost{}) {
		cost = DefaultCost
	}
	return &Passwords{cost: cost, queue: gate.NewQueue("sign-ins at once", hashesAtOnce, hashesFromOne, hashesWaiting)}
}

// Hash returns the encoded hash of a password. from is who has it hashed.
func (p *Passwords) Hash(ctx context.Context, password, from string) (string, error) {
	var salt [16]byte
	_, _ = rand.Read(salt[:])
	sum, err := p.derive(ctx, password, from, salt[:], p.cost)
	if err != nil {
		return "", err
	}
	enc := base64.RawStdEncoding
	return fmt.Sprintf(
		"$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s",
		argon2.Version,
		p.cost.MemoryKiB,
		p.cost.Passes,
		p.cost.Threads,
		enc.EncodeToString(salt[:]),
		enc.EncodeToString(sum),
	), nil
}

// Verify reports whether the password belongs to the encoded hash. An unknown
// person is verified against an empty hash: it takes the same time and fails. from
// is who has it verified.
func (p *Passwords) Verify(ctx context.Context, password, encoded, from string) (bool, error) {
	if len(password) > MaxPassword {
		return false, nil
	}
	var version int
	var cost Cost
	var salt, want []byte
	parts := strings.Split(encoded, "$")
	known := len(parts) == 6 && parts[1] == "argon2id"
	if known {
		_, err1 := fmt.Sscanf(parts[2], "v=%d", &version)
		_, err2 := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &cost.MemoryKiB, &cost.Passes, &cost.Threads)
		var err3, err4 error
		salt, err3 = base64.RawStdEncoding.DecodeString(parts[4])
		want, err4 = base64.RawStdEncoding.DecodeString(parts[5])
		known = errors.Join(err1, err2, err3, err4) == nil && version == argon2.Version && len(want) == 32
	}
	if !known {
		cost, salt, want = p.cost, make([]byte, 16), make([]byte, 32)
	}
	sum, err := p.derive(ctx, password, from, salt, cost)
	if err != nil {
		return false, err
	}
	return subtle.ConstantTimeCompare(sum, want) == 1 && known, nil
}

func (p *Passwords) derive(ctx context.Context, password, from string, salt []byte, cost Cost) ([]byte, error) {
	leave, err := p.queue.Enter(ctx, from)
	if err != nil {
		return nil, err
	}
	// The work area is large and needed once: it is given back at once.
	defer func() { debug.FreeOSMemory(); leave() }()
	return argon2.IDKey([]byte(password), salt, cost.Passes, cost.MemoryKiB, cost.Threads, 32), nil
}

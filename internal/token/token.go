// Package token makes the random tokens that Bouncer hands out (passes, logins,
// codes, invitations) and the hash that is kept of each. A token is shown once;
// whoever reads the database finds nothing to sign in with.
package token

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
)

// Prefixes of the tokens that Bouncer hands out, so that they are recognised
// wherever they turn up.
const (
	PassPrefix  = "bnp_"
	LoginPrefix = "bnt_"
	// Of agents that sign in: access tokens, refresh tokens and codes.
	AccessPrefix  = "bna_"
	RefreshPrefix = "bnr_"
	CodePrefix    = "bnc_"
	// Of invitations.
	InvitationPrefix = "bni_"
	// MachinePrefix is that of one-time codes for assistants on other machines.
	MachinePrefix = "bnm_"
)

// New returns a random token of 256 bits with the prefix.
func New(prefix string) string {
	var b [32]byte
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(b[:])
	return prefix + base64.RawURLEncoding.EncodeToString(b[:])
}

// Hash is what is kept of a token. Tokens are random and long, so a fast hash
// is enough; nobody can guess them back.
func Hash(token string) [32]byte { return sha256.Sum256([]byte(token)) }

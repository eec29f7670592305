// Package ticket signs what agents without a session are given to come back with
// (requestState of MCP 2026-07-28). A ticket is bound to what it was given out for, since it
// comes back from outside, and ends by itself.
package ticket

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Key signs tickets. Those of another key are not taken.
type Key [32]byte

// NewKey returns a key of this process.
func NewKey() (k Key) {
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(k[:])
	return k
}

// Sign returns a ticket. form and number hold no full stop; to is what it is bound to.
func (k Key) Sign(form, number string, until time.Time, to ...string) string {
	head := form + "." + number + "." + strconv.FormatInt(until.Unix(), 36)
	return head + "." + base64.RawURLEncoding.EncodeToString(k.mac(head, to))
}

func (k Key) mac(head string, to []string) []byte {
	m := hmac.New(sha256.New, k[:])
	fmt.Fprintf(m, "%q", append([]string{head}, to...))
	return m.Sum(nil)
}

// Read returns the form and the number of a ticket; ok is false for one that is not of this
// key, bound to something else, or over.
func (k Key) Read(ticket string, now time.Time, to ...string) (form, number string, ok bool) {
	at := strings.LastIndexByte(ticket, '.')
	if at < 0 {
		return "", "", false
	}
	head := ticket[:at]
	mac, err := base64.RawURLEncoding.DecodeString(ticket[at+1:])
	if err != nil || !hmac.Equal(mac, k.mac(head, to)) {
		return "", "", false
	}
	parts := strings.Split(head, ".")
	if len(parts) != 3 {
		return "", "", false
	}
	until, err := strconv.ParseInt(parts[2], 36, 64)
	if err != nil || now.Unix() > until {
		return "", "", false
	}
	return parts[0], parts[1], true
}

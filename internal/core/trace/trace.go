// Package trace is the context by which what one request caused can be followed through
// several programs (W3C Trace Context, level 1): it is taken over from agents, and passed on
// to servers.
package trace

import (
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"time"
)

// Parent is what somebody who asks says of the trace that the request belongs to. The zero
// value is of none.
type Parent struct {
	Trace   [16]byte
	Span    [8]byte
	Sampled bool
	State   string // tracestate, as it came; empty where it is too long, or no header
}

// maxState is the longest tracestate that is passed on, in bytes.
const maxState = 512

// Read reads the headers traceparent and tracestate. What is malformed counts as none
// (section 3.2 of the standard).
func Read(parent, state string) (p Parent, ok bool) {
	parts := strings.Split(parent, "-")
	if len(parts) < 4 || len(parts[0]) != 2 || parts[0] == "ff" || parts[0] == "00" && len(parts) != 4 ||
		len(parts[1]) != 32 || len(parts[2]) != 16 || len(parts[3]) != 2 {
		return Parent{}, false
	}
	var version, flags [1]byte
	for _, f := range [...]struct {
		to   []byte
		text string
	}{{version[:], parts[0]}, {p.Trace[:], parts[1]}, {p.Span[:], parts[2]}, {flags[:], parts[3]}} {
		if strings.ToLower(f.text) != f.text {
			return Parent{}, false
		}
		if _, err := hex.Decode(f.to, []byte(f.text)); err != nil {
			return Parent{}, false
		}
	}
	if p.Trace == [16]byte{} || p.Span == [8]byte{} {
		return Parent{}, false
	}
	p.Sampled = flags[0]&1 == 1
	if len(state) <= maxState && strings.IndexFunc(state, func(r rune) bool { return r < ' ' || r > '~' }) < 0 {
		p.State = state
	}
	return p, true
}

// Call is the place of one call in a trace: a span for all of it, and one for what its server
// did.
type Call struct {
	Parent Parent // of the agent; the zero value for a trace that begins here
	Trace  [16]byte
	Own    [8]byte // the span of the call
	Server [8]byte // the span of the request to the server
	Begun  time.Time
}

// Begin gives a call its place. Where the agent does not say whether the trace is kept, share
// of them are, from 0 to 1; nil for one that is not.
func Begin(parent Parent, share float64) *Call {
	c := &Call{Parent: parent, Trace: parent.Trace}
	if parent.Trace == [16]byte{} {
		if rand.Float64() >= share { //nolint:gosec // nothing is kept secret by it
			return nil
		}
		fill(c.Trace[:])
	} else if !parent.Sampled {
		return nil
	}
	fill(c.Own[:])
	fill(c.Server[:])
	return c
}

func fill(b []byte) {
	for i := 0; i < len(b); i += 8 {
		n := rand.Uint64() | 1 //nolint:gosec // ids have to differ, and not to be guessed
		for j := range 8 {
			b[i+j] = byte(n >> (8 * j))
		}
	}
}

// Headers are traceparent and tracestate for the server.
func (c *Call) Headers() (parent, state string) {
	b := make([]byte, 0, 55)
	b = hex.AppendEncode(append(b, "00-"...), c.Trace[:])
	b = hex.AppendEncode(append(b, '-'), c.Server[:])
	return string(append(b, "-01"...)), c.Parent.State
}

package segment

import (
	"errors"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"
)

// Key is the order of a call in the journal: milliseconds since 1970 in the upper 48
// bits, a count within the millisecond in the lower 16.
type Key int64

// LastKey is after every key that there can be.
const LastKey = Key(1<<63 - 1)

// ErrKey is returned for what is not the id of a call.
var ErrKey = errors.New("not the id of a call")

// ULID is the key as people see it: its upper half is the key, its lower half
// follows from the key.
func (k Key) ULID() string {
	var u ulid.ULID
	x := uint64(k)
	for i := 7; i >= 0; i-- {
		u[i] = byte(x)
		x >>= 8
	}
	// splitmix64, so that neighbouring ids do not look alike
	x = uint64(k) + 0x9e3779b97f4a7c15
	x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9
	x = (x ^ (x >> 27)) * 0x94d049bb133111eb
	x ^= x >> 31
	for i := 15; i >= 8; i-- {
		u[i] = byte(x)
		x >>= 8
	}
	return u.String()
}

// Time is when the call came in.
func (k Key) Time() time.Time { return time.UnixMilli(int64(k) >> 16).UTC() }

// ParseKey is the inverse of ULID.
func ParseKey(id string) (Key, error) {
	u, err := ulid.ParseStrict(strings.ToUpper(id))
	if err != nil {
		return 0, ErrKey
	}
	var x uint64
	for _, b := range u[:8] {
		x = x<<8 | uint64(b)
	}
	k := Key(x)
	if k < 0 || k.ULID() != u.String() {
		return 0, ErrKey
	}
	return k, nil
}

// KeyAt is the first key of a millisecond.
func KeyAt(t time.Time) Key { return Key(t.UnixMilli() << 16) }

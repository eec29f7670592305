package ticket

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestATicketIsTakenForWhatItWasGivenOutOnly(t *testing.T) {
	t.Parallel()
	k, now := NewKey(), time.Unix(1_800_000_000, 0)
	good := k.Sign("parked", "n1", now.Add(time.Minute), "agent", `a","b`)
	form, number, ok := k.Read(good, now.Add(time.Minute), "agent", `a","b`)
	assert.Equal(t, []any{"parked", "n1", true}, []any{form, number, ok})
	refused := func(ticket string, at time.Time, to ...string) {
		t.Helper()
		_, _, ok := k.Read(ticket, at, to...)
		assert.False(t, ok, ticket)
	}
	refused(good, now.Add(time.Minute+time.Second), "agent", `a","b`)
	refused(good, now, "agent", "a", "b")
	refused(good, now, "other", `a","b`)
	refused(good, now)
	refused(strings.Replace(good, "n1", "n2", 1), now, "agent", `a","b`)
	refused(strings.Replace(good, "parked", "recall", 1), now, "agent", `a","b`)
	refused(good+"A", now, "agent", `a","b`)
	refused(NewKey().Sign("parked", "n1", now.Add(time.Minute), "agent", `a","b`), now, "agent", `a","b`)
	refused(k.Sign("a.b", "n1", now.Add(time.Minute)), now)
	for _, nonsense := range []string{"", ".", "...", "parked.n1.zz.", "parked"} {
		refused(nonsense, now)
	}
}
